"""Sums per zone and per cell, against plain arrays and geometry."""

from __future__ import annotations

import csv

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from depth import examples
from ellipsoid import distances
from program import Program
from rasters import frame, raster, save
from zembrel.engine.limits import Limits
from zembrel.engine.run import observe
from zembrel.errors import UsageError
from zembrel.features.files import read_features, write_features
from zembrel.features.stats import parse_stats
from zembrel.features.table import FeatureTable
from zembrel.features.zonal import ZoneSums, ZoneValues, joined, zone_outlines
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code

HOME = by_code(32626)
LEFT, TOP = 730_000, 5_100_000


def stars(seed: int, count: int) -> list[shapely.Geometry]:
    """Polygons with holes, anywhere on a frame of 60 x 40 cells of 10 m and beyond its edge."""
    chance = np.random.default_rng(seed)
    made = []
    for x, y in chance.uniform((-5, -5), (65, 45), (count, 2)):
        turns = np.sort(chance.uniform(0, 2 * np.pi, 9))
        reach = chance.uniform(3, 18, 9)
        ring = np.column_stack([x + reach * np.cos(turns), y + reach * np.sin(turns)])
        shape = shapely.make_valid(shapely.Polygon(ring)).difference(shapely.Point(x, y).buffer(1.1))
        made.append(
            shapely.transform(shape, lambda p: np.column_stack([LEFT + 10 * p[:, 0], TOP - 10 * p[:, 1]]))
        )
    return made


@settings(max_examples=examples(40), deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([0.0, 0.2]), st.sampled_from(["float32", "int16"]))
def test_cells_count_by_the_share_that_is_inside(seed: int, void: float, kind: str) -> None:
    chance = np.random.default_rng(seed)
    cells = (chance.normal(0, 50, (40, 60))).astype(kind)
    valid = chance.random((40, 60)) >= void
    source = raster(cells, valid=valid if void else None, where=frame(60, 40))
    zones = np.array(stars(seed, 4), object)
    drawn = zone_outlines(zones, source.frame)
    sums, gathered = ZoneSums(drawn, len(zones)), ZoneValues(drawn, len(zones))
    observe(source, list(source.frame.pane.blocks(11, 13)), [sums, gathered], Limits())
    held_in = [joined(parts) for parts in gathered.parts]
    boxes = shapely.box(
        LEFT + 10 * np.arange(60),
        TOP - 10 * (np.arange(40)[:, None] + 1),
        LEFT + 10 * (np.arange(60) + 1),
        TOP - 10 * np.arange(40)[:, None],
    )
    for n, zone in enumerate(zones):
        shares = shapely.area(shapely.intersection(boxes, zone)) / 100.0
        inside = (shares > 1e-9) & (valid if void else True)
        weights, values = shares[inside], cells[inside].astype(float)
        assert sums.result("count")[n] == pytest.approx(weights.sum(), rel=1e-9, abs=1e-9)
        if not weights.size:
            assert np.isnan(sums.result("mean")[n])
        if weights.sum() < 1e-3:  # a sliver, whose share is known to some digits only
            continue
        mean = np.average(values, weights=weights)
        assert sums.result("sum")[n] == pytest.approx((weights * values).sum(), rel=1e-8, abs=1e-6)
        assert sums.result("mean")[n] == pytest.approx(mean, rel=1e-8, abs=1e-8)
        assert (sums.result("min")[n], sums.result("max")[n]) == (values.min(), values.max())
        spread = np.sqrt(np.average((values - mean) ** 2, weights=weights))
        assert sums.result("deviation")[n] == pytest.approx(spread, rel=1e-6, abs=1e-6)
        held = held_in[n]
        assert held.weights.sum() == pytest.approx(weights.sum(), rel=1e-9)
        below = held.weights[held.values < held.rank(0.5)].sum() / held.weights.sum()
        near = (
            0.5 + held.weights.max()
        )  # half of the cell over which values are averaged, and the one it begins in
        assert below == pytest.approx(0.5, abs=near / held.weights.sum() + 1e-9)


def test_zones_along_cells_agree_with_another_package(zembrel: Program) -> None:
    cells = np.random.default_rng(3).normal(100, 20, (120, 90)).astype(np.float32)
    labels = (np.arange(120)[:, None] // 30) * 3 + np.arange(90) // 30
    save(zembrel.folder / "z.tif", raster(cells, where=frame(90, 120)), tile="16")
    boxes = [
        shapely.box(LEFT + 300 * c, TOP - 300 * (r + 1), LEFT + 300 * (c + 1), TOP - 300 * r)
        for r in range(4)
        for c in range(3)
    ]
    write_features(
        zembrel.folder / "zones.gpkg", FeatureTable.of(boxes, [{"n": n} for n in range(12)], HOME), "z"
    )
    stats = [
        word for name in ("count", "mean", "max", "median", "percentile:90") for word in ("--stat", name)
    ]
    zembrel("tally", "z.tif", "--zones", "zones.gpkg", *stats, "--out", "t.csv")
    rows = list(read_features(zembrel.folder / "t.csv").rows())
    index = np.arange(12)
    np.testing.assert_allclose([row["mean"] for row in rows], ndimage.mean(cells, labels, index), rtol=1e-6)
    np.testing.assert_allclose([row["max"] for row in rows], ndimage.maximum(cells, labels, index))
    np.testing.assert_allclose(
        [row["median"] for row in rows], ndimage.median(cells, labels, index), rtol=1e-3
    )
    assert [row["count"] for row in rows] == [900] * 12 and [row["n"] for row in rows] == list(range(12))
    zembrel(
        "tally", "z.tif", "--zones", "zones.gpkg", "--stat", "mean", "--onto", "z.tif", "--out", "back.tif"
    )
    back = open_raster(zembrel.folder / "back.tif")
    np.testing.assert_allclose(
        back.cells(back.frame.pane).cells[0], ndimage.mean(cells, labels, labels), rtol=1e-6
    )


@pytest.fixture
def walks(zembrel: Program) -> FeatureTable:
    chance = np.random.default_rng(9)
    start = np.array([LEFT + 300, TOP - 200])
    steps = chance.normal(0, 30, (30, 12, 2))
    lines = [shapely.LineString(start + np.cumsum(walk, axis=0)) for walk in steps]
    table = FeatureTable.of(lines, [{"speed": float(v)} for v in chance.uniform(2, 6, 30)], HOME)
    write_features(zembrel.folder / "walks.gpkg", table, "walks")
    return table


def test_features_in_zones_and_in_reach(zembrel: Program, walks: FeatureTable) -> None:
    zones = stars(4, 5)
    write_features(zembrel.folder / "zones.gpkg", FeatureTable.of(zones, [{}] * 5, HOME), "z")
    stats = [word for name in ("count", "length", "mean:speed", "max:speed") for word in ("--stat", name)]
    for reach in (None, 40.0):
        words = ["--reach", f"{reach:g}m"] if reach else []
        zembrel(
            "tally", "walks.gpkg", "--zones", "zones.gpkg", *words, *stats, "--out", "t.gpkg", "--replace"
        )
        for zone, row in zip(zones, read_features(zembrel.folder / "t.gpkg").rows(), strict=True):
            area = zone.buffer(reach, quad_segs=32) if reach else zone
            met = shapely.intersects(walks.geometries, area)
            assert row["count"] == met.sum()
            plain = shapely.length(shapely.intersection(walks.geometries, area)).sum()
            assert row["length"] == pytest.approx(plain, rel=1e-3)
            speeds = walks.columns["speed"][met]
            assert row["mean_speed"] == (pytest.approx(speeds.mean()) if met.any() else None)
            assert row["max_speed"] == (speeds.max() if met.any() else None)


def test_features_per_cell(zembrel: Program, walks: FeatureTable) -> None:
    save(zembrel.folder / "f.tif", raster(np.zeros((20, 30), np.uint8), where=frame(30, 20, cell=20.0)))
    stats = [word for name in ("count", "mean:speed", "length") for word in ("--stat", name)]
    middles = shapely.points(LEFT + 20 * np.arange(30) + 10, TOP - 20 * np.arange(20)[:, None] - 10)
    boxes = shapely.buffer(middles, 10, cap_style="square")
    for words, areas in (([], boxes), (["--reach", "70m"], shapely.buffer(middles, 70, quad_segs=64))):
        zembrel("tally", "walks.gpkg", "--onto", "f.tif", *words, *stats, "--out", "d.tif", "--replace")
        found = open_raster(zembrel.folder / "d.tif")
        block = found.cells(found.frame.pane)
        met = np.array([[shapely.intersects(walks.geometries, area) for area in row] for row in areas])
        same = block.cells[0] == met.sum(axis=2)
        assert same.mean() > (0.999 if not words else 0.98)  # buffers are polygons
        here = same & met.any(axis=2)
        speeds = (met * walks.columns["speed"]).sum(axis=2)[here] / met.sum(axis=2)[here]
        np.testing.assert_allclose(block.cells[1][here], speeds, rtol=1e-9)
        plain = np.array(
            [
                [shapely.length(shapely.intersection(walks.geometries, area)).sum() for area in row]
                for row in areas
            ]
        )
        np.testing.assert_allclose(
            block.cells[2], plain, rtol=2e-2 if words else 1e-3, atol=6.0 if words else 1e-6
        )


def test_what_does_not_go_together_is_refused(zembrel: Program, walks: FeatureTable) -> None:
    save(zembrel.folder / "f.tif", raster(np.zeros((20, 30), np.uint8), where=frame(30, 20, cell=20.0)))
    assert "no inside" in zembrel.refuses(2, "tally", "f.tif", "--zones", "walks.gpkg", "--out", "x.gpkg")[0]
    assert zembrel.refuses(2, "tally", "f.tif", "--out", "x.gpkg")[0] == "there are no zones"
    words = "--zones", "walks.gpkg", "--reach", "9m", "--onto", "f.tif", "--out", "x.gpkg"
    assert zembrel.refuses(2, "tally", "f.tif", *words)[2].endswith("end --out in .tif")
    assert (
        "speed"
        in zembrel.refuses(
            3, "tally", "walks.gpkg", "--onto", "f.tif", "--stat", "mean:sped", "--out", "x.tif"
        )[2]
    )
    assert (
        "--zones"
        in zembrel.refuses(
            2, "tally", "walks.gpkg", "--onto", "f.tif", "--stat", "median:speed", "--out", "x.tif"
        )[2]
    )
    for text in ("avg", "percentile", "percentile:200", "mean:a:b"):
        with pytest.raises(UsageError):
            parse_stats((text,))
    assert [stat.label for stat in parse_stats(("quartiles", "percentile:90:depth", "sum:a"))] == [
        "p25",
        "p50",
        "p75",
        "p90_depth",
        "sum_a",
    ]


def test_cells_become_polygons_where_a_feature_file_is_asked_for(zembrel: Program) -> None:
    places = [(730_003, 5_099_993), (730_004, 5_099_994), (730_027, 5_099_975)]
    rows = [f"{x},{y},{n},a\n" for n, (x, y) in enumerate(places, 1)]
    (zembrel.folder / "p.csv").write_text("x,y,n,name\n" + "".join(rows))
    stats = ("--stat", "count", "--stat", "sum:n")
    zembrel("tally", "p.csv", "--from-crs", "EPSG:32626", "--cell", "10", *stats, "--out", "g.gpkg")
    table = read_features(zembrel.folder / "g.gpkg")
    found = sorted(zip((g.bounds for g in table.geometries), *table.columns.values(), strict=True))
    assert found == [
        ((730_000.0, 5_099_990.0, 730_010.0, 5_100_000.0), 2, 3),
        ((730_020.0, 5_099_970.0, 730_030.0, 5_099_980.0), 1, 3),
    ]


@pytest.mark.parametrize(
    "code, side, reach", [(32626, 20.0, 1000.0), (4326, 0.0004, 1500.0), (3857, 35.0, 900.0)]
)
def test_what_is_within_a_distance_of_points_is_so_to_the_millimetre(
    zembrel: Program, code: int, side: float, reach: float
) -> None:
    """Cells and points around 60 places, in metres, degrees and a map that stretches; none by polygons."""
    crs, random = by_code(code), np.random.default_rng(code)
    x0, y0 = {32626: (733_000.0, 5_098_000.0), 4326: (-24.0, 46.0), 3857: (-2_670_000.0, 5_780_000.0)}[code]
    here = frame(300, 260, side, x0, y0, crs)
    save(zembrel.folder / "f.tif", raster(np.ones((260, 300), np.uint8), where=here))
    x, y = x0 + random.uniform(0, 300, 60) * side, y0 - random.uniform(0, 260, 60) * side
    places = FeatureTable.of(list(shapely.points(x, y)), [{"n": n} for n in range(60)], crs)
    write_features(zembrel.folder / "p.gpkg", places, "p")
    words = ("--reach", f"{reach:g}m", "--stat", "count")
    zembrel("tally", "p.gpkg", *words, "--onto", "f.tif", "--out", "n.tif")
    found = open_raster(zembrel.folder / "n.tif").cells(here.pane).cells[0].ravel()
    rows, columns = np.mgrid[:260, :300].reshape(2, -1).astype(float)
    middles = here.centres(columns, rows)
    due, sure = np.zeros(found.size, int), np.ones(found.size, bool)
    for place in zip(x, y, strict=True):
        away = distances(crs, *middles, *(np.array([value]) for value in place))
        due, sure = due + (away <= reach), sure & (np.abs(away - reach) > 1e-3)
    assert (found == due)[sure].all() and (~sure).sum() < 20 and due.max() > 5

    some = np.flatnonzero(random.uniform(0, 1, found.size) < 0.4)
    many = FeatureTable.of(list(shapely.points(middles[0][some], middles[1][some])), [{}] * len(some), crs)
    write_features(zembrel.folder / "many.parquet", many, "many")
    zembrel("tally", "many.parquet", "--zones", "p.gpkg", *words, "--out", "z.csv")
    counts = [int(row["count"]) for row in csv.DictReader((zembrel.folder / "z.csv").open())]
    for place, count in zip(zip(x, y, strict=True), counts, strict=True):
        away = distances(crs, middles[0][some], middles[1][some], *(np.array([value]) for value in place))
        assert (away < reach - 1e-3).sum() <= count <= (away < reach + 1e-3).sum()
