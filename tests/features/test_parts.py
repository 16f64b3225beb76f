"""Layers of many features go through memory part by part, and come out as if they had gone at once."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import shapely

import depth
from program import Program
from zembrel.features.files import feature_parts, read_features
from zembrel.features.files.jsontext import BATCH

COUNT = 2 * BATCH + 700
LATE = BATCH + 50  # what begins here is in no feature of the first part


def properties(n: int) -> dict[str, Any]:
    """Values whose kinds only the whole layer tells."""
    row: dict[str, Any] = {"n": n, "turns": n if n < LATE else n + 0.5, "depth": None if n < LATE else n % 7}
    row["word"] = "heath" if n % 3 else None
    return row if n < LATE else row | {"late": f"w{n}"}


def feature(n: int) -> dict[str, Any]:
    place = {"type": "Point", "coordinates": [730000 + n % 100 * 10, 5100000 + n // 100 * 10]}
    return {"type": "Feature", "id": n + 1, "properties": properties(n), "geometry": place}


@pytest.fixture(scope="module")
def layer(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A collection whose CRS stands behind its features."""
    path = tmp_path_factory.mktemp("layer") / "many.geojson"
    crs = {"type": "name", "properties": {"name": "EPSG:32626"}}
    text = {"type": "FeatureCollection", "features": [feature(n) for n in range(COUNT)], "crs": crs}
    path.write_text(json.dumps(text, indent=1))
    return path


@pytest.mark.parametrize(
    "ending", depth.some(["gpkg", "parquet", "csv", "shp", "geojsonl", "geojson", "kml"], ["gpkg", "csv"])
)
def test_every_format_gives_many_features_as_they_were(zembrel: Program, layer: Path, ending: str) -> None:
    zembrel("convert", layer, "--out", f"a.{ending}")
    parts = list(feature_parts(zembrel.folder / f"a.{ending}"))
    assert ending == "kml" or (len(parts) == 3 and max(map(len, parts)) == BATCH)
    table = read_features(zembrel.folder / f"a.{ending}")
    assert len(table) == COUNT
    for n, row in enumerate(table.rows()):
        known = {name: row.get(name) for name in properties(COUNT)}
        assert known == {"late": None} | properties(n), n
    if ending in ("gpkg", "parquet", "csv"):  # the others are in degrees, or in what a .prj says
        assert table.crs is not None and table.crs.code == 32626
        assert shapely.equals(table.geometries[LATE], shapely.geometry.shape(feature(LATE)["geometry"]))


def test_a_condition_is_one_for_all_parts(zembrel: Program, layer: Path) -> None:
    """The depth is a number, though none of the first part has one."""
    words = ("convert", layer, "--where", "depth > 3 and turns < 9000", "--fields", "late,n")
    zembrel(*words, "--out", "deep.gpkg")
    expected = [n for n in range(LATE, COUNT) if n % 7 > 3 and n + 0.5 < 9000]
    table = read_features(zembrel.folder / "deep.gpkg")
    assert table.columns["n"].tolist() == expected and list(table.columns) == ["late", "n"]
    what, why, _ = zembrel.refuses(3, "convert", layer, "--where", "depth > 9", "--out", "none.gpkg")
    assert "no feature meets" in what and f"{COUNT:,}" in why
    assert "'deeph'" in zembrel.refuses(2, "convert", layer, "--where", "deeph > 9", "--out", "none.gpkg")[0]


def test_an_area_and_faults_are_told_of_the_whole_layer(zembrel: Program, layer: Path) -> None:
    said = zembrel("clip", layer, "--within", "730000,5100400,730500,5101000", "--out", "cut.gpkg").err
    inside = sum(730000 + n % 100 * 10 <= 730500 and 400 <= n // 100 * 10 <= 1000 for n in range(COUNT))
    assert f"{inside:,} of {COUNT:,} features in the area" in said
    what = zembrel.refuses(3, "clip", layer, "--within", "0,0,9,9", "--out", "x.gpkg")
    assert "no feature lies" in what[0] and f"{5100000 + (COUNT - 1) // 100 * 10}" in what[1]
    document = json.loads(layer.read_text())
    for number in (3, BATCH + 2):
        document["features"][number]["geometry"] = {
            "type": "Polygon", "coordinates": [[[0, 0], [9, 9], [9, 0], [0, 9], [0, 0]]],
        }  # fmt: skip
    (zembrel.folder / "odd.geojson").write_text(json.dumps(document))
    what = zembrel.refuses(3, "clip", "odd.geojson", "--within", "0,0,9e9,9e9", "--out", "x.gpkg")
    assert what[0].startswith(f"2 of {COUNT} features") and f"feature {BATCH + 3}: self" in what[1]
    mended = zembrel("convert", "odd.geojson", "--repair", "--out", "x.gpkg").err
    assert "2 faulty features mended" in mended
