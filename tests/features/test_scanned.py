"""Features on cells: partitions are claimed once, fractions are areas, rules decide."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from depth import examples
from rasters import frame
from zembrel.features.scanned import RULES, Covered, Scanned, outlines
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band

BAND = (Band("value", "float64"),)
SIZE = 60
HERE = Frame(frame(1, 1).crs, Affine(0.0, float(SIZE), 1.0, -1.0), SIZE, SIZE)


def partition(seed: int, count: int) -> list[shapely.Geometry]:
    """Cells of a Voronoi diagram that fill more than the frame."""
    points = shapely.MultiPoint(np.random.default_rng(seed).uniform(-9, SIZE + 9, (count, 2)))
    around = shapely.box(-30, -30, SIZE + 30, SIZE + 30)
    return list(shapely.voronoi_polygons(points, extend_to=around).geoms)


def scanned(
    shapes: list[shapely.Geometry], values: list[float], rule: str = "last", **how: bool
) -> np.ndarray:
    view = Scanned(HERE, BAND, outlines(shapes, values, HERE, **how), rule, fill=-1.0)
    whole = view.cells(HERE.pane).cells[0]
    parts = np.full(whole.shape, np.nan)
    for pane in HERE.pane.blocks(17, 23):
        parts[pane.within(HERE.pane)] = view.cells(pane).cells[0]
    np.testing.assert_array_equal(parts, whole)  # however it is cut into blocks
    return whole


@settings(max_examples=examples(40), deadline=None)
@given(st.integers(0, 10_000), st.integers(3, 80), st.sampled_from([0, 0.5, 1]))
def test_a_partition_claims_every_cell_once(seed: int, count: int, snap: float) -> None:
    shapes = partition(seed, count)
    if snap:  # corners on the middles and edges of cells
        shapes = [shapely.set_precision(shape, snap) for shape in shapes]
        shapes = [shape for shape in shapes if not shape.is_empty and shape.is_valid]
    claims = scanned(shapes, [1.0] * len(shapes), "count")
    if not snap or abs(sum(s.area for s in shapes) - shapely.union_all(shapes).area) < 1e-9:
        assert claims.max() <= 1
    if not snap:
        assert claims.min() == 1


@settings(max_examples=examples(40), deadline=None)
@given(st.integers(0, 10_000), st.integers(3, 40))
def test_fractions_are_areas(seed: int, count: int) -> None:
    inside = shapely.box(2, 2, SIZE - 2, SIZE - 2)
    for shape in partition(seed, count)[:4]:
        kept = shape.intersection(inside).difference(shapely.Point(30, 30).buffer(5))
        if kept.is_empty:
            continue
        shares = Covered(HERE, BAND, outlines([kept], [1.0], HERE, turned=True)).cells(HERE.pane).cells[0]
        assert shares.sum() == pytest.approx(kept.area, rel=1e-9)
        for row, column in np.random.default_rng(seed).integers(0, SIZE, (20, 2)):
            cell = shapely.box(column, SIZE - row - 1, column + 1, SIZE - row)
            assert shares[row, column] == pytest.approx(kept.intersection(cell).area, abs=1e-9)
        part = (
            Covered(HERE, BAND, outlines([kept], [1.0], HERE, turned=True))
            .cells(Pane(20, 25, 41, 52))
            .cells[0]
        )
        np.testing.assert_allclose(part, shares[20:41, 25:52], atol=1e-12)


def test_touching_is_every_cell_that_is_met() -> None:
    shapes = [
        shapely.Polygon([(3.2, 4.1), (20.7, 9.9), (11.3, 30.2)]),
        shapely.LineString([(40.3, 2.2), (55.8, 40.9), (30.1, 50.5)]),
        shapely.Point(5.5, 50.5),
    ]
    found = scanned(shapes, [1.0, 2.0, 3.0], touching=True)
    for row in range(SIZE):
        for column in range(SIZE):
            cell = shapely.box(column, SIZE - row - 1, column + 1, SIZE - row)
            met = [n for n, shape in enumerate(shapes, 1) if shape.intersects(cell)]
            depth = [shapes[n - 1].intersection(cell) for n in met]
            if all(part.length > 1e-6 or part.geom_type == "Point" for part in depth):
                assert found[row, column] == (met[-1] if met else -1)


def test_a_thin_line_has_no_gap_and_no_corner() -> None:
    found = scanned([shapely.LineString([(1.5, 1.5), (50.5, 20.5)])], [1.0])
    assert (found == 1).sum() == 50 and ((found == 1).sum(axis=0)[1:51] == 1).all()


@pytest.mark.parametrize(
    "rule, wanted",
    [("first", 5), ("last", 2), ("min", 2), ("max", 9), ("sum", 16), ("mean", 16 / 3), ("count", 3)],
)
def test_rules_say_who_wins(rule: str, wanted: float) -> None:
    shapes = [shapely.box(0, 0, 30, 30), shapely.box(10, 10, 40, 40), shapely.box(20, 0, 50, 50)]
    found = scanned(shapes, [5.0, 9.0, 2.0], rule)
    assert found[SIZE - 25, 25] == wanted and found[5, 5] == -1
    assert set(RULES) == {"first", "last", "min", "max", "sum", "mean", "count"}


@settings(max_examples=examples(30), deadline=None)
@given(st.integers(0, 10_000), st.integers(3, 30))
def test_a_cell_is_inside_if_its_middle_is(seed: int, count: int) -> None:
    shape = partition(seed, count)[0].difference(shapely.Point(30, 30).buffer(9))
    columns, rows = np.meshgrid(np.arange(SIZE) + 0.5, SIZE - np.arange(SIZE) - 0.5)
    wanted = shapely.contains_xy(shape, columns, rows)
    np.testing.assert_array_equal(scanned([shape], [1.0]) == 1, wanted)


@pytest.mark.parametrize("cell", [1 / 3600, 1 / 1200, 0.1, 10.0])
@pytest.mark.parametrize("touching", [False, True])
def test_a_diagonal_leaves_no_cells_beside_it(cell: float, touching: bool) -> None:
    """From middle to middle and from corner to corner: rounding must not push it into its neighbours."""
    west, north = -23.97, 46.01
    home = Frame(by_code(4326), Affine(west, north, cell, -cell), 40, 40)
    for start, end in ((5.5, 34.5), (5.0, 34.75)):
        line = shapely.LineString([(west + n * cell, north - n * cell) for n in (start, end)])
        drawn = outlines(np.array([line], object), np.ones(1), home, touching=touching)
        block = Scanned(home, (Band("a", "float64"),), drawn, "last").cells(home.pane)
        np.testing.assert_array_equal(
            np.argwhere(block.valid_of(0)), np.repeat(np.arange(5, 35), 2).reshape(-1, 2)
        )
