"""Isolines agree with another package, however the rows are cut; bands fill what is known, once."""

from __future__ import annotations

from itertools import pairwise

import contourpy
import numpy as np
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


def test_bands_cover_what_is_known_once(zembrel: Program, hills: np.ndarray) -> None:
    zembrel("contour", "z.tif", "--interval", "40", "--filled", "--out", "b.gpkg")
    table = read_features(zembrel.folder / "b.gpkg")
    assert shapely.is_valid(table.geometries).all()
    areas, bounds = shapely.area(table.geometries), list(table.rows())
    assert areas.sum() == pytest.approx(shapely.union_all(table.geometries).area, rel=1e-9)
    known = ~np.isnan(hills)
    quads = (known[:-1, :-1] & known[:-1, 1:] & known[1:, 1:] & known[1:, :-1]).sum() * 100.0
    assert quads <= areas.sum() <= known.sum() * 100.0
    west, _, _, north = 730_000, 0, 0, 5_100_000
    for row, col in ((10, 10), (50, 80), (2, 40), (30, 60)):
        point = shapely.Point(west + col * 10 + 5, north - row * 10 - 5)
        held = [facts for shape, facts in zip(table.geometries, bounds, strict=True) if shape.covers(point)]
        assert any(facts["low"] <= hills[row, col] <= facts["high"] for facts in held) and 1 <= len(held) <= 2


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
