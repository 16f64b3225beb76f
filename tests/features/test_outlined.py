"""Regions as polygons: the way back is the identity, areas are cells, labels are those of another package."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from rasters import frame
from zembrel.features.outlined import shapes_of
from zembrel.features.scanned import Scanned, outlines
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.model import Band
from zembrel.raster.regions import Outlines, RegionSweep

BAND = (Band("value", "float64"),)


def regions(cells: np.ndarray, known: np.ndarray, *, diagonal: bool, strip: int) -> tuple[list, list, list]:
    rows, columns = cells.shape
    here = Frame(frame(1, 1).crs, Affine(100.0, 900.0, 2.0, -3.0), columns, rows)
    sweep, outlined = RegionSweep(columns, diagonal), Outlines()
    swept = [sweep.strip(cells[r : r + strip], known[r : r + strip]) for r in range(0, rows, strip)]
    shapes = [shapes_of(outlined.take(part), here) for part in [*swept, sweep.finish()]]
    return (
        [g for part in shapes for g in part.geometries],
        [v for part in shapes for v in part.values.tolist()],
        [n for part in shapes for n in part.cells.tolist()],
    )


@settings(max_examples=150, deadline=None)
@given(
    st.integers(0, 10_000), st.integers(1, 14), st.integers(1, 14), st.integers(1, 4), st.booleans(),
    st.sampled_from([1, 2, 5, 99]), st.sampled_from([0.0, 0.2]),
)  # fmt: skip
def test_cells_to_polygons_and_back_is_the_identity(
    seed: int, rows: int, columns: int, kinds: int, diagonal: bool, strip: int, void: float
) -> None:
    chance = np.random.default_rng(seed)
    cells, known = chance.integers(0, kinds, (rows, columns)), chance.random((rows, columns)) >= void
    shapes, values, counts = regions(cells, known, diagonal=diagonal, strip=strip)
    assert all(shape.is_valid for shape in shapes), [shapely.is_valid_reason(s) for s in shapes]
    assert [shape.area for shape in shapes] == [6.0 * n for n in counts] and sum(counts) == known.sum()
    structure = np.ones((3, 3)) if diagonal else None
    labels = sum(ndimage.label((cells == kind) & known, structure)[1] for kind in range(kinds))
    assert len(shapes) == labels
    here = Frame(frame(1, 1).crs, Affine(100.0, 900.0, 2.0, -3.0), columns, rows)
    back = Scanned(here, BAND, outlines(shapes, values, here), "last").cells(here.pane)
    np.testing.assert_array_equal(back.valid_of(0), known)
    np.testing.assert_array_equal(back.cells[0][known], cells[known])
    if shapes:
        covered = shapely.union_all(shapes).area
        assert covered == pytest.approx(6.0 * known.sum())  # none overlaps another


def test_what_is_kept_is_what_is_open() -> None:
    chance = np.random.default_rng(1)
    sweep, most = RegionSweep(400), 0
    for _ in range(40):
        sweep.strip(chance.integers(0, 3, (64, 400)), np.ones((64, 400), bool))
        most = max(most, sweep.open_corners)
    assert most < 40_000  # of more than two million corners
