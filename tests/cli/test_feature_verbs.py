"""convert, clip, reproject, mosaic and describe on features."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
import shapely

from program import Program
from zembrel.features.files import read_features, write_features
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code

HOME = by_code(32626)
X, Y = 730_000, 5_100_000


@pytest.fixture
def fields(zembrel: Program) -> FeatureTable:
    """Sixteen squares of 100 m, and their rows."""
    boxes = [
        shapely.box(X + 100 * c, Y + 100 * r, X + 100 * c + 100, Y + 100 * r + 100)
        for r in range(4)
        for c in range(4)
    ]
    rows = [{"n": n, "kind": "wood" if n % 3 else "heath", "depth": n / 4} for n in range(16)]
    table = FeatureTable.of(boxes, rows, HOME)
    write_features(zembrel.folder / "f.gpkg", table, "f")
    return table


def test_features_and_fields_are_picked(zembrel: Program, fields: FeatureTable) -> None:
    zembrel(
        "convert",
        "f.gpkg",
        "--where",
        "kind == 'wood' and depth > 1",
        "--fields",
        "depth,kind",
        "--out",
        "o.shp",
    )
    found = list(read_features(zembrel.folder / "o.shp").rows())
    assert [list(row) for row in found] == [["depth", "kind"]] * 7
    assert all(row["kind"] == "wood" and row["depth"] > 1 for row in found)
    assert (
        zembrel.refuses(2, "convert", "f.gpkg", "--where", "dept > 1", "--out", "x.shp")[2]
        == "did you mean depth?"
    )
    assert (
        zembrel.refuses(3, "convert", "f.gpkg", "--fields", "knd", "--out", "x.shp")[2]
        == "did you mean kind?"
    )
    assert "rasterize" in zembrel.refuses(2, "convert", "f.gpkg", "--out", "x.tif")[2]
    (zembrel.folder / "o.dbf").write_bytes(b"mine")
    assert zembrel.refuses(4, "convert", "f.gpkg", "--out", "o.shp")[0] == "o.shp exists"
    (zembrel.folder / "o.shp").unlink()
    assert zembrel.refuses(4, "convert", "f.gpkg", "--out", "o.shp")[0].endswith(
        "exists"
    )  # what belongs to it
    assert (zembrel.folder / "o.dbf").read_bytes() == b"mine"


def test_areas_cut_keep_or_leave_out(zembrel: Program, fields: FeatureTable) -> None:
    box = shapely.box(X + 150, Y + 150, X + 350, Y + 250)
    within = f"{X + 150},{Y + 150},{X + 350},{Y + 250}"
    for words, expected in (
        ([], [shape.intersection(box) for shape in fields.geometries if shape.intersection(box).area]),
        (["--touching"], [shape for shape in fields.geometries if shape.intersects(box)]),
        (["--outside"], [shape.difference(box) for shape in fields.geometries if shape.difference(box).area]),
    ):
        zembrel("clip", "f.gpkg", "--within", within, *words, "--out", "c.gpkg", "--replace")
        found = read_features(zembrel.folder / "c.gpkg")
        assert len(found) == len(expected)
        assert shapely.area(found.geometries).sum() == pytest.approx(shapely.area(expected).sum())
        assert (shapely.get_dimensions(found.geometries) == 2).all()
    said = zembrel("clip", "f.gpkg", "--within", f"circle:{X + 200},{Y + 200},50m", "--out", "d.gpkg").err
    assert "4 of 16 features in the area" in said
    circle = read_features(zembrel.folder / "d.gpkg")
    assert shapely.area(circle.geometries).sum() == pytest.approx(np.pi * 2500, rel=2e-3)
    assert (
        "no feature lies" in zembrel.refuses(3, "clip", "f.gpkg", "--within", "0,0,1,1", "--out", "x.gpkg")[0]
    )


def test_there_and_back_keeps_every_corner_and_long_edges_their_course(
    zembrel: Program, fields: FeatureTable
) -> None:
    zembrel("reproject", "f.gpkg", "--crs", "EPSG:4326", "--out", "w.geojson")
    zembrel("reproject", "w.geojson", "--crs", "EPSG:32626", "--out", "b.gpkg")
    back = read_features(zembrel.folder / "b.gpkg")
    for one, other in zip(fields.geometries, back.geometries, strict=True):
        assert shapely.hausdorff_distance(one, other) < 1e-4 and len(other.exterior.coords) == 5
    long = FeatureTable.of([shapely.LineString([(200_000, 5_000_000), (800_000, 5_400_000)])], [{}], HOME)
    write_features(zembrel.folder / "l.gpkg", long, "l")
    zembrel("reproject", "l.gpkg", "--crs", "EPSG:3857", "--out", "m.gpkg")
    bent = read_features(zembrel.folder / "m.gpkg")
    points = shapely.get_coordinates(long.geometries[0].segmentize(500.0))
    true = FeatureTable.of(shapely.points(points), [{}] * len(points), HOME).to(by_code(3857))
    assert shapely.distance(true.geometries, bent.geometries[0]).max() < 0.011  # metres


def test_files_are_appended_in_one_crs(zembrel: Program, fields: FeatureTable) -> None:
    places = FeatureTable.of([shapely.Point(-24, 46)], [{"name": "High Marrow", "n": 99}], by_code(4326))
    write_features(zembrel.folder / "p.geojson", places, "p")
    said = zembrel("mosaic", "f.gpkg", "p.geojson", "--out", "all.gpkg").err
    found = read_features(zembrel.folder / "all.gpkg")
    rows = list(found.rows())
    assert (
        len(rows) == 17
        and found.crs == HOME
        and rows[16] == {"n": 99, "kind": None, "depth": None, "name": "High Marrow"}
    )
    assert "2 files of 16, 1" in said and 700_000 < found.geometries[16].x < 760_000


def test_describe_names_what_is_there(zembrel: Program, fields: FeatureTable) -> None:
    bow = shapely.Polygon([(X, Y), (X + 9, Y + 9), (X + 9, Y), (X, Y + 9)])
    write_features(zembrel.folder / "b.gpkg", FeatureTable.of([bow, None], [{}, {}], HOME), "b")
    text = zembrel("describe", "f.gpkg", "b.gpkg", "--stats").out
    assert (
        "16 polygons, 80 corners" in text
        and "0 to 3.75, mean 1.875" in text
        and "2 different: 'wood' 10" in text
    )
    assert "feature 1: self-intersection" in text and "feature 2: it has no geometry" in text
    facts = zembrel("describe", "f.gpkg", "--at", f"{X + 150},{Y + 50}", "--json").json["layers"][0]
    assert facts["at"] == [{"feature": 2, "n": 1, "kind": "wood", "depth": 0.25}]
    with zipfile.ZipFile(zembrel.folder / "z.zip", "w") as packed:
        zembrel("convert", "f.gpkg", "--out", "s.shp")
        for ending in ("shp", "shx", "dbf", "prj", "cpg"):
            packed.write(zembrel.folder / f"s.{ending}", f"deep/s.{ending}")
    assert "16 polygons" in zembrel("describe", "z.zip").out
    (zembrel.folder / "t.csv").write_text("x,y,depth\n1,2,3\n4,5,6\n")
    zembrel(
        "convert", "t.csv", "--from-crs", "EPSG:32626", "--out", "t.geojson"
    )  # features, since the result is
    assert len(json.loads((zembrel.folder / "t.geojson").read_text())["features"]) == 2
    assert "do not go together" in zembrel.refuses(2, "describe", "f.gpkg", "t.csv")[1]


def test_a_damaged_or_empty_file_leaves_nothing_behind(zembrel: Program, fields: FeatureTable) -> None:
    (zembrel.folder / "bad.geojson").write_text('{"type": "FeatureCollection", "features": [')
    before = set(zembrel.folder.iterdir())
    assert zembrel.refuses(3, "convert", "bad.geojson", "--out", "x.gpkg")
    zembrel("convert", "f.gpkg", "--out", "x.gpkg", "--dry-run")
    assert {path for path in zembrel.folder.iterdir() if isinstance(path, Path)} == before
