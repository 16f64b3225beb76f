"""Order statistics of rasters: those of NumPy on all cells, whatever their type, order and spread."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from program import Program
from rasters import raster, save
from zembrel.engine.limits import Limits
from zembrel.formats import open_raster
from zembrel.passes.survey import quantiles
from zembrel.raster.ranks import keys_of, value_of

KINDS = ["uint8", "int8", "uint16", "int16", "uint32", "int32", "int64", "float32", "float64"]
SHARES = [0.0, 0.1, 0.25, 0.5, 0.9, 0.99, 1.0]


@pytest.mark.parametrize("kind", [*KINDS, "uint64"])
@given(data=st.data())
def test_keys_sort_as_values_do_and_lead_back(kind: str, data: Any) -> None:
    elements = {"allow_nan": False, "allow_infinity": False} if kind[0] == "f" else {}
    values = data.draw(
        arrays(
            kind,
            st.integers(1, 40),
            elements=st.floats(width=int(kind[5:]), **elements) if elements else None,
        )
    )
    keys = keys_of(values)
    order = np.argsort(keys, kind="stable")
    assert (np.diff(values[order].astype(object)) >= 0).all()
    assert [value_of(int(key), np.dtype(kind)) for key in keys] == values.tolist()


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("spread", ["even", "few", "outlier"])
def test_quantiles_are_those_of_numpy(kind: str, spread: str) -> None:
    chance = np.random.default_rng(5)
    ends = (0, 100) if kind[0] == "f" else (max(np.iinfo(kind).min, -(10**6)), min(np.iinfo(kind).max, 10**6))
    cells = chance.uniform(*ends, (90, 110)).astype(kind)
    if spread == "few":
        cells = (cells // 7 * 7).astype(kind)
    if spread == "outlier":
        cells = (cells % 5).astype(kind)
        cells[3, 4] = ends[1]
    valid = chance.random(cells.shape) < 0.8
    found = quantiles([raster(cells, valid)], SHARES, Limits(workers=1))
    assert found == pytest.approx(np.quantile(cells[valid].astype(float), SHARES).tolist(), rel=1e-12)


def test_one_outlier_does_not_swallow_the_classes(zembrel: Program) -> None:
    """200,000 cells of 0 to 399, of which one is a million."""
    cells = (np.arange(200_000).reshape(400, 500) * 7 % 400).astype(np.int32)
    cells[0, 0] = 1_000_000
    save(zembrel.folder / "c.tif", raster(cells))
    zembrel("classify", "c.tif", "--classes", "quantile:4", "--out", "q.tif")
    made = open_raster(zembrel.folder / "q.tif")
    counts = np.bincount(made.cells(made.frame.pane).cells.ravel())[1:]
    assert counts.size == 4 and counts.min() > 49_000 and counts.max() < 51_000
    names = [entry.name for entry in made.bands[0].legend.entries if entry.code]  # type: ignore[union-attr]
    assert names == ["under 100", "100 to 200", "200 to 300", "300 and over"]


def test_fewer_classes_than_asked_are_said(zembrel: Program) -> None:
    cells = np.where(np.arange(10_000).reshape(100, 100) < 9_000, 5, 9).astype(np.uint8)
    save(zembrel.folder / "c.tif", raster(cells))
    said = zembrel("classify", "c.tif", "--classes", "quantile:4", "--out", "q.tif", code=None)
    assert "fewer classes" in said.err
