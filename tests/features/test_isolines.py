"""Isolines agree with another package, however the rows are cut; areas share the valid cells out."""

from __future__ import annotations

import tempfile
from itertools import pairwise
from pathlib import Path

import contourpy
import numpy as np
import pyarrow.parquet as parquet
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from depth import examples
from program import Program
from rasters import frame, raster, save
from zembrel.features.files import read_features
from zembrel.raster.isolines import Isolines
from zembrel.raster.kernels import contour as kernel


def traced(z: np.ndarray, level: float, strip: int) -> list[tuple[np.ndarray, bool]]:
    sweep, found = Isolines(level, z.shape[1]), []
    parts = [z[top : top + strip + 1] for top in range(0, len(z) - 1, strip)]
    for lines in [*(sweep.strip(part, kernel.glances(part)) for part in parts), sweep.finish()]:
        cut = zip(lines.starts[:-1], lines.starts[1:], lines.closed, strict=True)
        found += [(lines.points[a:b], bool(closed)) for a, b, closed in cut]
    return found


def pieces(lines: list[np.ndarray]) -> list[tuple[float, ...]]:
    """All segments of lines, whichever way they run."""
    ends = [sorted([tuple(a), tuple(b)]) for line in lines for a, b in pairwise(np.round(line, 9).tolist())]
    return sorted((*a, *b) for a, b in ends if a != b)


@settings(max_examples=examples(120), deadline=None)
@given(
    st.integers(0, 10_000), st.integers(2, 40), st.integers(2, 70), st.sampled_from([1, 3, 99]),
    st.sampled_from([0.0, 0.15]), st.booleans(),
)  # fmt: skip
def test_lines_are_those_of_another_package(
    seed: int, rows: int, columns: int, strip: int, void: float, whole: bool
) -> None:
    chance = np.random.default_rng(seed)
    z = (
        chance.integers(0, 4, (rows, columns)).astype(float)
        if whole
        else chance.normal(0, 1, (rows, columns))
    )
    z[chance.random(z.shape) < void] = np.nan
    level = 1.5 if whole else 0.3
    ours = traced(z, level, strip)
    x, y = np.arange(columns) + 0.5, np.arange(rows) + 0.5
    theirs = contourpy.contour_generator(
        x, y, np.ma.masked_invalid(z), name="serial", corner_mask=False
    ).lines(level)
    np.testing.assert_allclose(pieces([p for p, _ in ours]), pieces(theirs), rtol=0, atol=1e-12)
    assert len(ours) == len(theirs)
    for points, closed in ours:
        assert closed == (points[0] == points[-1]).all()
        assert len(np.unique(points, axis=0)) == len(points) - closed  # no line crosses or repeats itself


def test_higher_ground_lies_on_the_left() -> None:
    z = np.array([[0.0, 0, 0], [0, 9, 0], [0, 0, 0]])
    ((points, closed),) = traced(z, 1.0, 9)
    assert closed and not shapely.LinearRing(points).is_ccw  # rows grow downwards


@pytest.fixture
def hills(zembrel: Program) -> np.ndarray:
    y, x = np.mgrid[0:60, 0:90]
    z = (100 * np.sin(x / 9) * np.cos(y / 7) + 120).astype(np.float32)
    valid = np.hypot(x - 30, y - 30) > 9
    save(zembrel.folder / "z.tif", raster(z, valid=valid, where=frame(90, 60, cell=10.0)))
    return np.where(valid, z, np.nan)


def areas_in(path: Path) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """The areas in a Parquet file, and what is said of them."""
    columns = parquet.read_table(path).to_pydict()
    shapes = shapely.from_wkb(np.array(columns.pop("geometry"), object))
    return shapes, {name: np.array(column, float) for name, column in columns.items()}


def cells_of(valid: np.ndarray) -> shapely.Geometry:
    """The union of the cells of a raster that are valid, each 10 m wide."""
    rows, columns = np.nonzero(valid)
    west, north = 730_000 + 10 * columns, 5_100_000 - 10 * rows
    return shapely.union_all(shapely.box(west, north - 10, west + 10, north))


@settings(max_examples=examples(12), deadline=None)
@given(
    st.integers(0, 10_000), st.integers(1, 9), st.integers(1, 12), st.sampled_from([0.0, 0.2, 0.6]),
    st.booleans(), st.booleans(), st.booleans(),
)  # fmt: skip
def test_areas_share_the_valid_cells_out(
    seed: int, rows: int, columns: int, void: float, plateaus: bool, beyond: bool, smooth: bool
) -> None:
    chance = np.random.default_rng(seed)
    z = chance.integers(0, 5, (rows, columns)) if plateaus else chance.normal(2, 2, (rows, columns))
    z, valid = z.astype(np.float64), chance.random((rows, columns)) >= void
    valid[0, 0] = True
    levels = [1.0, 2.0, 3.0] if beyond else [-20.0, 1.0, 2.0, 3.0, 20.0]
    told = ["--levels=" + ",".join(map(str, levels)), *["--beyond"] * beyond, *["--smooth"] * smooth]
    with tempfile.TemporaryDirectory() as folder:
        save(Path(folder) / "z.tif", raster(z, valid=valid, where=frame(columns, rows, cell=10.0)))
        Program(Path(folder))("contour", "z.tif", "--filled", *told, "--out", "b.parquet")
        areas, said = areas_in(Path(folder) / "b.parquet")
    assert shapely.is_valid(areas).all()
    cells = cells_of(valid)
    assert shapely.symmetric_difference(shapely.union_all(areas), cells).area < 1e-6
    assert shapely.area(areas).sum() == pytest.approx(cells.area, abs=1e-6)  # none overlaps another
    assert np.allclose(said["area"], shapely.area(areas), rtol=2e-3, atol=2e-3)
    low = np.where(np.isnan(said["low"]), -np.inf, said["low"])
    high = np.where(np.isnan(said["high"]), np.inf, said["high"])
    if smooth:  # the heights are others
        return
    for row, column in zip(*np.nonzero(valid), strict=True):
        middle = shapely.Point(730_005 + 10 * column, 5_099_995 - 10 * row)
        (held,) = np.flatnonzero(shapely.contains(areas, middle))
        assert low[held] <= z[row, column] < high[held]


def test_the_last_area_holds_the_highest_value_and_levels_may_leave_values_out(zembrel: Program) -> None:
    z = np.array([[1.0, 2.0, 3.0, 4.0]])
    save(zembrel.folder / "z.tif", raster(z, where=frame(4, 1, cell=10.0)))
    zembrel("contour", "z.tif", "--filled", "--levels", "1,2,4", "--out", "b.parquet")
    areas, _ = areas_in(zembrel.folder / "b.parquet")
    assert shapely.area(areas) == pytest.approx([150, 250], abs=0.2)
    zembrel("contour", "z.tif", "--filled", "--levels", "2.5,3.5", "--out", "c.parquet")
    (part,) = areas_in(zembrel.folder / "c.parquet")[0]
    assert part.bounds == pytest.approx((730_020, 5_099_990, 730_030, 5_100_000))
    said = zembrel.refuses(3, "contour", "z.tif", "--filled", "--levels", "2.5", "--out", "d.gpkg")
    assert "--beyond" in said[2]
    assert "--beyond" in zembrel.refuses(2, "contour", "z.tif", "--beyond", "--out", "d.gpkg")[0]


@pytest.mark.parametrize("form", [(), ("--filled",)])
def test_infinite_heights_are_refused_and_can_be_left_out(zembrel: Program, form: tuple[str, ...]) -> None:
    z = np.add.outer(np.arange(9.0), np.arange(9.0))
    z[4, 4], z[1, 1] = np.inf, -np.inf
    save(zembrel.folder / "z.tif", raster(z, where=frame(9, 9, cell=10.0)))
    _, _, remedy = zembrel.refuses(4, "contour", "z.tif", *form, "--interval", "2", "--out", "x.gpkg")
    formula = remedy.split('"')[1]
    zembrel("derive", "--let", "a=z.tif", "--formula", formula, "--out", "finite.tif")
    zembrel("contour", "finite.tif", *form, "--interval", "2", "--out", "y.parquet")
    found, _ = areas_in(zembrel.folder / "y.parquet")
    assert len(found) and shapely.is_valid(found).all()


def test_levels_flags_and_refusals(zembrel: Program, hills: np.ndarray) -> None:
    zembrel("contour", "z.tif", "--interval", "20", "--base", "10", "--index", "3", "--out", "c.geojson")
    rows = list(read_features(zembrel.folder / "c.geojson").rows())
    values = {row["value"] for row in rows}
    assert values <= set(range(10, 300, 20)) and len(values) > 8
    assert {row["value"] for row in rows if row["index"]} == {v for v in values if (v - 10) % 60 == 0}
    zembrel("contour", "z.tif", "--out", "n.geojson")  # nobody says: twenties here
    rows = list(read_features(zembrel.folder / "n.geojson").rows())
    assert {row["value"] for row in rows if row["index"]} == {
        v for v in {r["value"] for r in rows} if v % 100 == 0
    }
    said = zembrel("contour", "z.tif", "--classes", "4", "--filled", "--out", "q.gpkg", "--json").json
    known = hills[~np.isnan(hills)]
    counts = np.histogram(known, said["levels"])[0]
    assert np.ptp(counts) < 10 < len(known) / 4
    assert (
        "exclude each other"
        in zembrel.refuses(2, "contour", "z.tif", "--levels", "5", "--classes", "3", "--out", "x.gpkg")[1]
    )
    assert "no level" in zembrel.refuses(3, "contour", "z.tif", "--levels", "5000", "--out", "x.gpkg")[0]
    assert "rise" in zembrel.refuses(2, "contour", "z.tif", "--levels", "5,2", "--out", "x.gpkg")[1]
    assert zembrel.refuses(4, "contour", "z.tif", "--interval", "0.001", "--out", "x.gpkg")
    smooth = zembrel("contour", "z.tif", "--interval", "20", "--smooth", "--out", "s.gpkg", "--json").json
    assert smooth["features"] and "surface softened" in [item["text"] for item in smooth["chose"]]
