"""What is written is read again: any cells that a raster holds, in every format that holds them exactly, or a refusal."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from depth import examples
from rasters import raster
from zembrel.errors import RefusedError, UsageError
from zembrel.formats import choose_format, open_raster
from zembrel.formats.catalogue import FORMATS
from zembrel.opened.calls import call
from zembrel.raster.model import TYPES

ENDINGS = ("tif", "png", "gif", "bmp", "jp2", "npy", "npz", "asc", "xyz", "csv", "matrix.csv", "parquet", "bil", "bip",
           "bsq", "flt", "nc", "zarr.zip", "gtx")  # fmt: skip
SHAPES = st.tuples(st.integers(1, 3), st.integers(2, 9), st.integers(2, 9))


@st.composite
def rasters(draw: Any) -> tuple[Any, Any]:
    """Cells, and where they are valid."""
    kind, shape = draw(st.sampled_from(TYPES)), draw(SHAPES)
    real = {"allow_nan": False, "allow_infinity": True, "width": 8 * np.dtype(kind).itemsize}
    values = st.floats(**real) if kind.startswith("f") else None
    cells = draw(arrays.arrays(kind, shape, elements=values))
    valid = draw(st.one_of(st.none(), arrays.arrays(bool, shape[1:])))
    return cells, None if valid is None or valid.all() else valid


@pytest.mark.parametrize("ending", ENDINGS)
@settings(max_examples=examples(8), deadline=None, suppress_health_check=list(HealthCheck))
@given(given_cells=rasters())
def test_cells_come_back_or_are_refused(ending: str, given_cells: tuple[Any, Any]) -> None:
    cells, valid = given_cells
    if valid is not None and not valid.any():
        return
    source = raster(cells, valid, unit="m")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"a.{ending}"
        try:
            call("convert", source, path, world_file=True) if ending in (
                "png",
                "gif",
                "bmp",
                "jp2",
            ) else call("convert", source, path)
        except (RefusedError, UsageError) as exc:
            assert not path.exists() and exc.why
            return
        again = open_raster(path)
        block = again.cells(again.frame.pane)
        known = np.ones(cells.shape[1:], bool) if valid is None else valid
        assert again.frame.affine == source.frame.affine and block.cells.shape[1:] == cells.shape[1:]
        extra = [band.colour for band in again.bands[len(cells) :]]  # pictures tell voids by a band more
        assert extra in ([], ["alpha"])
        holds_voids = FORMATS[choose_format(path, None)].holds_mask
        for band in range(len(cells)):
            if holds_voids:
                np.testing.assert_array_equal(block.valid_of(band), known, err_msg=ending)
            got = block.cells[band][known].astype(cells.dtype)  # a text does not say of which type it is
            np.testing.assert_array_equal(got, cells[band][known], err_msg=ending)
