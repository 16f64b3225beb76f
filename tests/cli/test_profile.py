"""profile: values along lines, against the surface itself; and the chain from another datum to a proven cell."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from program import Program
from rasters import frame, raster, save
from zembrel.geodesy.registry import by_code
from zembrel.raster.legend import Legend, LegendEntry


def plane(zembrel: Program, name: str = "p.tif", lift: float = 0.0, valid: Any = None) -> None:
    where = frame(60, 40)
    column, row = np.meshgrid(np.arange(60.0), np.arange(40.0))
    x, y = where.centres(column, row)
    heights = ((x - 730_000) * 0.5 - (5_100_000 - y) * 0.25 + lift).astype(np.float32)
    save(zembrel.folder / name, raster(heights, valid, where, unit="m"))


def rows(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


def test_values_and_distances_are_those_of_the_surface(zembrel: Program) -> None:
    plane(zembrel)
    plane(zembrel, "q.tif", lift=3.0)
    ends = (730_025.0, 5_099_965.0, 730_425.0, 5_099_665.0)
    said = zembrel("profile", "p.tif", "q.tif", "--along", ",".join(map(str, ends)), "--step", "7m")
    table = rows(said.out)
    x, y, along = (np.array([float(row[name]) for row in table]) for name in ("x", "y", "distance"))
    assert (x[0], y[0], x[-1], y[-1]) == ends and len(table) == 73 and along[0] == 0
    expected = (x - 730_000) * 0.5 - (5_100_000 - y) * 0.25
    np.testing.assert_allclose([float(row["p"]) for row in table], expected, atol=3e-4)
    np.testing.assert_allclose([float(row["q less p"]) for row in table], 3, atol=1e-4)
    crs = by_code(32626)
    lon, lat = crs.to_geographic(np.array(x[[0, -1]]), np.array(y[[0, -1]]))  # type: ignore[union-attr]
    a, e2 = 6378137.0, 0.0066943799901413165
    mid = lat.mean()
    w = np.sqrt(1 - e2 * np.sin(mid) ** 2)  # radii of curvature, good for half a kilometre
    metres = np.hypot(np.diff(lat) * a * (1 - e2) / w**3, np.diff(lon) * a / w * np.cos(mid))
    assert along[-1] == pytest.approx(float(metres[0]), rel=1e-6) and abs(along[-1] - 500) > 0.1, (
        "not the map's 500 m"
    )
    assert "typical 3" in said.err and "rms 3" in said.err and "bias 3 m" in said.err


def test_samples_lie_a_cell_apart_turn_corners_and_miss_voids(zembrel: Program) -> None:
    valid = np.ones((40, 60), bool)
    valid[:, 20:30] = False
    plane(zembrel, valid=valid)
    words = ("profile", "p.tif", "--along", "730005,5099805,730505,5099805,730505,5099705", "--json")
    own = zembrel(*words).json
    assert own["samples"] == 61 and own["layers"][0]["missing"] == 10 and own["differences"] == []
    found = zembrel("profile", "p.tif", "--along", "corners", "--table", "t.csv", "--figure", "f.png")
    assert "wrote    t.csv   f.png" in found.err and Image.open(zembrel.folder / "f.png").size == (1280, 800)
    table = rows((zembrel.folder / "t.csv").read_text())
    assert (table[0]["x"], table[0]["y"], table[-1]["x"]) == ("730000", "5099600", "730600")
    assert {row["p"] for row in table if 730_205 < float(row["x"]) < 730_295} == {""}


def test_lines_of_a_file_are_followed_each_from_its_start(zembrel: Program) -> None:
    plane(zembrel)
    features = [
        {
            "type": "Feature",
            "properties": {"kind": kind},
            "geometry": {"type": "LineString", "coordinates": line},
        }
        for kind, line in (("path", [[-24, 46.0001], [-23.9999, 46.0001]]), ("road", [[0, 0], [1, 1]]))
    ]
    zembrel.folder.joinpath("l.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "features": features})
    )
    zembrel("coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:32626", stdin="-24,46.0001")
    shape = {
        "type": "MultiLineString",
        "coordinates": [[[730010, 5099990], [730110, 5099990]], [[730010, 5099790], [730010, 5099690]]],
    }
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32626"}}
    table = {
        "type": "FeatureCollection",
        "crs": crs,
        "features": [{"type": "Feature", "properties": {"kind": "path"}, "geometry": shape}],
    }
    zembrel.folder.joinpath("m.geojson").write_text(json.dumps(table))
    found = rows(zembrel("profile", "p.tif", "--along", "m.geojson", "--along-where", "kind == 'path'").out)
    assert [row["line"] for row in found] == ["1"] * 11 + ["2"] * 11 and found[11]["distance"] == "0"
    zembrel("profile", "p.tif", "--along", "m.geojson", "--figure", "f.svg")
    assert "2 lines" in (zembrel.folder / "f.svg").read_text()


def test_classes_are_looked_up_not_averaged(zembrel: Program) -> None:
    legend = Legend.of([LegendEntry(1, "wood", (0, 90, 0)), LegendEntry(9, "sea", (0, 0, 200))])
    codes = np.where(np.arange(60) < 30, 1, 9).astype(np.uint8) * np.ones((40, 1), np.uint8)
    save(zembrel.folder / "k.tif", raster(codes, where=frame(60, 40), legend=legend))
    found = rows(zembrel("profile", "k.tif", "--along", "730000,5099800,730599,5099800", "--step", "3m").out)
    assert {row["k"] for row in found} == {"1", "9"}


@pytest.mark.parametrize(
    "words, code, what",
    [
        ((), 2, "there is no line"), (("--along", "1,2,3"), 2, "--along 1,2,3"), (("--along", "1,2,1,2"), 2, "--along 1,2,1,2"),
        (("--along", "0,0,1,1"), 3, "no layer has a value"), (("--along", "corners", "--step", "0m"), 2, "--step 0m"),
        (("--along", "corners", "--step", "1mm"), 4, "samples"), (("--along", "corners", "--figure", "f.tif"), 2, "no picture name"),
        (("--along", "gone.gpkg"), 3, "gone.gpkg"),
    ],
)  # fmt: skip
def test_what_is_no_line_is_refused(zembrel: Program, words: tuple[str, ...], code: int, what: str) -> None:
    plane(zembrel)
    assert what in zembrel.refuses(code, "profile", "p.tif", *words)[0]


def test_a_sheet_of_another_datum_becomes_a_one_degree_cell_that_agrees_with_both(
    zembrel: Program, marrowick: Path
) -> None:
    """The worked example of docs/elevation.md."""
    zembrel("mosaic", marrowick / "dem", "--out", "relief.tif")
    zembrel(
        "reproject",
        "relief.tif",
        "--crs",
        "EPSG:4183",
        "--cell",
        "0.75arcsec",
        "--method",
        "cubic",
        "--out",
        "sheet.tif",
    )
    assert "Azores Central 1948 to WGS 84" in zembrel("reproject", "sheet.tif", "--out", "N46W024.hgt").err
    for other in ("sheet.tif", "relief.tif"):
        own = zembrel(
            "compare", "N46W024.hgt", other, "--at-most", "rms=0.5", "--at-most", "shift=0.02", "--json"
        ).json
        assert own["cells"] > 14_000 and own["rms"] < 0.5
    line = ("--along", "-23.998,46.002,-23.97,46.012@EPSG:4326")
    own = zembrel("profile", "N46W024.hgt", "sheet.tif", "relief.tif", *line, "--json").json
    assert [row["name"] for row in own["differences"]] == ["sheet", "relief"] and own["layers"][0][
        "missing"
    ] == 0
    assert own["differences"][0]["rms"] < 2 and abs(own["differences"][0]["bias"]) < 0.3
