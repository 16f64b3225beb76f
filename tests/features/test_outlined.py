"""Regions as polygons: the way back is the identity, areas are cells, labels are those of another package."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from depth import examples
from rasters import frame, random_cells, raster, save
from zembrel.features.outlined import shapes_of
from zembrel.features.scanned import Scanned, outlines
from zembrel.grid.frame import Affine, Frame
from zembrel.opened.calls import call
from zembrel.raster.model import Band
from zembrel.raster.regions import RegionOutlines, RegionSweep
from zembrel.raster.sieved import sieved

BAND = (Band("value", "float64"),)


def regions(cells: np.ndarray, known: np.ndarray, *, diagonal: bool, strip: int) -> tuple[list, list, list]:
    rows, columns = cells.shape
    here = Frame(frame(1, 1).crs, Affine(100.0, 900.0, 2.0, -3.0), columns, rows)
    sweep, outlined = RegionSweep(columns, diagonal), RegionOutlines()
    swept = [sweep.strip(cells[r : r + strip], known[r : r + strip]) for r in range(0, rows, strip)]
    shapes = [shapes_of(outlined.take(part), here) for part in [*swept, sweep.finish()]]
    return (
        [g for part in shapes for g in part.geometries],
        [v for part in shapes for v in part.values.tolist()],
        [n for part in shapes for n in part.cells.tolist()],
    )


@settings(max_examples=examples(150), deadline=None)
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


@settings(max_examples=examples(60), deadline=None)
@given(
    st.integers(0, 10_000), st.integers(2, 16), st.integers(2, 5), st.booleans(), st.sampled_from([0.0, 0.2])
)
def test_smoothed_borders_stay_shared(seed: int, size: int, kinds: int, diagonal: bool, void: float) -> None:
    """Smoothed polygons neither overlap nor gape, and have no more corners where others do not."""
    chance = np.random.default_rng(seed)
    cells, known = chance.integers(0, kinds, (size, size)), chance.random((size, size)) >= void
    here = Frame(frame(1, 1).crs, Affine(0.0, 0.0, 1.0, -1.0), size, size)
    sweep, outlined = RegionSweep(size, diagonal, junctions=True), RegionOutlines()
    swept = [sweep.strip(cells[r : r + 3], known[r : r + 3]) for r in range(0, size, 3)]
    shapes = [shapes_of(outlined.take(part), here, smooth=2).geometries for part in [*swept, sweep.finish()]]
    smooth = np.concatenate(shapes)
    assert shapely.is_valid(smooth).all()
    assert shapely.coverage_is_valid(smooth)
    if void == 0.0:
        assert shapely.area(smooth).sum() == pytest.approx(size * size)
    simple = shapely.coverage_simplify(smooth, 0.4)
    assert shapely.is_valid(simple).all() and shapely.coverage_is_valid(simple)


@settings(max_examples=examples(60), deadline=None)
@given(
    st.integers(0, 10_000),
    st.integers(1, 12),
    st.integers(1, 4),
    st.integers(2, 12),
    st.booleans(),
    st.sampled_from([0.0, 0.3]),
)
def test_small_regions_go_to_their_neighbours(
    seed: int, size: int, kinds: int, least: int, diagonal: bool, void: float
) -> None:
    chance = np.random.default_rng(seed)
    cells, known = chance.integers(0, kinds, (size, size)), chance.random((size, size)) >= void

    def strips() -> list:
        return [(cells[r : r + 2], known[r : r + 2]) for r in range(0, size, 2)]

    parts, gone, left = sieved(lambda: iter(strips()), size, least, diagonal=diagonal)
    result = np.vstack([part for part, _ in parts])
    structure = np.ones((3, 3)) if diagonal else None
    blobs, _ = ndimage.label(known, structure)  # what is known hangs together here
    before, small_left = 0, 0
    for kind in range(kinds):
        labels, count = ndimage.label((result == kind) & known, structure)
        for n in range(1, count + 1):
            if (labels == n).sum() < least:
                small_left += 1
                assert ((blobs == blobs[labels == n][0]) == (labels == n)).all()  # nothing known touches it
        labels, count = ndimage.label((cells == kind) & known, structure)
        sizes = np.bincount(labels.ravel())[1:]
        before += int((sizes < least).sum())
    assert gone <= before and left == small_left
    if before == 0:
        np.testing.assert_array_equal(result[known], cells[known])


@pytest.mark.parametrize(
    "verb, module, options",
    [("polygonize", "passes.sieving", {}), ("contour", "verbs.contour", {"interval": 20.0})],
)
def test_features_are_the_same_however_they_are_batched(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, verb: str, module: str, options: dict[str, float]
) -> None:
    source = save(tmp_path / "c.tif", raster(random_cells(60, 70) // 40))
    for corners in (1_000_000, 1):
        monkeypatch.setattr("zembrel.results.tables._CORNERS", corners)
        monkeypatch.setattr(f"zembrel.{module}._STRIP_CELLS", 700)
        call(verb, str(source), str(tmp_path / f"{corners}.geojson"), **options)
    assert (tmp_path / "1.geojson").read_bytes() == (tmp_path / "1000000.geojson").read_bytes()
