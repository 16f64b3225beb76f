"""crs and coords: finding, showing, fitting, and coordinates line by line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from ellipsoid import distances
from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs


def test_crss_are_found_by_name_and_by_place(zembrel: Program) -> None:
    assert "EPSG:27700" in zembrel("crs", "find", "British", "National", "Grid").out.splitlines()[1]
    here = zembrel("crs", "find", "-24.1,46,-23.9,46.2", "--json").json["found"]
    assert 32626 in [e["code"] for e in here] and 27700 not in [e["code"] for e in here]
    assert zembrel.refuses(3, "crs", "find", "zzzzzz")[0] == "no CRS has 'zzzzzz' in its name or area"
    assert zembrel.refuses(2, "crs", "shwo", "EPSG:4326")[2] == "did you mean show?"


@pytest.mark.parametrize("form", ["wkt1", "wkt2", "prj", "json"])
def test_what_is_shown_can_be_given_back(zembrel: Program, form: str) -> None:
    text = zembrel("crs", "show", "EPSG:3035", "--as", form).out
    assert read_crs(text) == by_code(3035)
    (zembrel.folder / "c.prj").write_text(text)
    assert "EPSG:3035" in zembrel("crs", "show", "c.prj").out
    assert "replaced by EPSG:2953" in zembrel("crs", "show", "EPSG:2036").out


def test_a_crs_that_fits_is_true_to_scale_there(zembrel: Program) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(30, 30)))
    found = zembrel("crs", "fit", "a.tif", "--json").json["found"]
    assert found[0]["distortion"] < 0.001 and found[0]["code"] == 32626
    told = zembrel("frame", "--within", "degree:S45E170", "--crs", "fit", "--cell", "100m", "--json").json
    assert told["frame"]["crs"] == "EPSG:32759"


def test_operations_are_listed_and_the_chosen_one_marked(zembrel: Program) -> None:
    text = zembrel("crs", "operations", "EPSG:27700", "EPSG:4326").out
    assert next(line for line in text.splitlines() if line.endswith("chosen")).startswith("EPSG:1314")
    assert "needs a grid file" in text


def points(said: str) -> list[list[float]]:
    return [[float(part) for part in line.split(",")[:2]] for line in said.splitlines()]


def test_coordinates_in_many_spellings_and_what_follows_them(zembrel: Program) -> None:
    lines = "lon,lat,note\n-24,46,hello,3\n24 00 00 W,46d0m0sN\n24\u00b000'00\"W, 46:00:00 N\n"
    said = zembrel("coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:32626", stdin=lines)
    x, y = by_code(32626).from_geographic(np.radians([-24.0]), np.radians([46.0]))
    for found in points(said.out):
        assert found == pytest.approx([x[0], y[0]], abs=1e-6)
    assert said.out.splitlines()[0].endswith(",hello,3") and len(said.out.splitlines()) == 3
    swapped = zembrel("coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:32626", "--yx", stdin="46,-24\n")
    assert points(swapped.out)[0] == pytest.approx([x[0], y[0]], abs=1e-6)


def test_full_precision_there_and_back(zembrel: Program) -> None:
    there = zembrel(
        "coords",
        "--from-crs",
        "EPSG:32626",
        "--crs",
        "EPSG:27700",
        stdin="732123.4567890123,5098765.4321098765\n",
    )
    back = zembrel("coords", "--from-crs", "EPSG:27700", "--crs", "EPSG:32626", stdin=there.out)
    assert points(back.out)[0] == pytest.approx([732123.4567890123, 5098765.4321098765], abs=5e-3)
    assert "datum shift inverse of EPSG:1314" in there.err


def test_bad_lines_are_named_and_left_out_only_when_asked(zembrel: Program) -> None:
    words = ["coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:32626"]
    for bad in ("nan,1", "inf,2", "one,two,3", "7", "1,2x", "24 75 00 W,46 00 00 N"):
        said = zembrel(*words, stdin=f"-24,46\n{bad}\n-24,46\n", code=3)
        assert f"line 2 is no point: {bad!r}" in said.err
        kept = zembrel(*words, "--keep-going", stdin=f"-24,46\n{bad}\n-24,46\n", code=7)
        assert len(kept.out.splitlines()) == 2 and "line 2" in kept.err
    assert zembrel.refuses(2, "coords", "--crs", "EPSG:4326")[0] == "coords needs two CRSs"


def test_points_outside_the_domain_become_nan(zembrel: Program) -> None:
    said = zembrel("coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:32626", stdin="150,0\n-24,46\n")
    assert said.out.splitlines()[0] == "nan,nan" and "1 outside the domain" in said.err


def test_axes_as_registered_have_their_order_and_signs(zembrel: Program) -> None:
    """The worked example of Krovak: southing first, then westing."""
    said = zembrel(
        "coords",
        "--from-crs",
        "EPSG:4818",
        "--crs",
        "EPSG:2065",
        "--axes",
        "registry",
        stdin="50.20901167,34.51643861\n",
    )
    assert points(said.out)[0] == pytest.approx([1_050_538.64, 568_991.00], abs=0.05)
    plain = zembrel(
        "coords", "--from-crs", "EPSG:4818", "--crs", "EPSG:2065", stdin="34.51643861,50.20901167\n"
    )
    assert points(plain.out)[0] == pytest.approx([-568_991.00, -1_050_538.64], abs=0.05)


def test_results_go_to_a_file_whole_or_not_at_all(zembrel: Program) -> None:
    words = ["coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:3857", "--out", "o.csv"]
    zembrel(*words, stdin="-24,46\n")
    assert len(points((zembrel.folder / "o.csv").read_text())) == 1
    zembrel(*words, "--replace", stdin="-24,46\nbad\n", code=3)
    assert len(points((zembrel.folder / "o.csv").read_text())) == 1
    assert zembrel(*words, stdin="", code=4).err.startswith("error: o.csv exists")


@pytest.mark.parametrize(
    "code, cell",
    [
        (27700, "10m"),
        (2263, "30ft"),
        (3035, "10m"),
        (5514, "10m"),
        (3413, "10m"),
        (6933, "10m"),
        (2048, "10m"),
    ],
)
def test_rasters_go_to_any_crs_and_come_back(zembrel: Program, code: int, cell: str) -> None:
    rows, cols = np.mgrid[:60, :60]
    smooth = raster(100 + 50 * np.sin(rows / 9.0) * np.cos(cols / 8.0))
    save(zembrel.folder / "a.tif", smooth)
    zembrel("reproject", "a.tif", "--crs", f"EPSG:{code}", "--cell", cell, "--out", "b.tif")
    assert open_raster(zembrel.folder / "b.tif").frame.crs == by_code(code)
    zembrel("reproject", "b.tif", "--onto", "a.tif", "--out", "c.tif")
    back = open_raster(zembrel.folder / "c.tif")
    gap = np.abs(back.cells(back.frame.pane).cells[0] - smooth.values[0])[12:-12, 12:-12]
    assert gap.max() < 3.5, "a cubic kernel, two times, at cells of other sizes on the ground"


def test_a_layer_may_be_given_any_text_of_a_crs(zembrel: Program, tmp_path: Path) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(20, 20)))
    text = zembrel("crs", "show", "EPSG:32627", "--as", "wkt2").out.strip()
    zembrel("reproject", "a.tif", "--crs", text, "--out", "b.tif")
    told = json.loads(zembrel("describe", "b.tif", "--json").out)
    assert told["layers"][0]["frame"]["crs"] == "EPSG:32627"


AREAS = (["place:Marrow Harbour"], ["-24.2,45.9,-24,46.1"], ["--", "-24.2,45.9,-24,46.1@EPSG:4326"])


def test_places_and_areas_are_looked_up_alike(zembrel: Program) -> None:
    point = {"type": "Point", "coordinates": [-24.1, 46.0]}
    feature = {"type": "Feature", "properties": {"name": "Marrow Harbour"}, "geometry": point}
    (zembrel.folder / "p.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "features": [feature]})
    )
    (zembrel.folder / "zembrel.toml").write_text('places = "p.geojson"\n')
    found = [zembrel("crs", "fit", "--json", *area).json["found"][0]["code"] for area in AREAS]
    assert found == [32626] * len(AREAS)
    assert zembrel.refuses(3, "crs", "find", "place:Harbour")[2] == "did you mean Marrow Harbour?"
    assert zembrel.refuses(3, "crs", "fit", "none.tif")[0].endswith("is no area phrase and no file")


def test_what_the_registry_has_against_a_crs_is_said(zembrel: Program) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(20, 20)))
    words = ["reproject", "a.tif", "--dry-run", "--out", "b.tif", "--crs"]
    said = zembrel(*words, "EPSG:2036").err
    assert "EPSG:2036 is withdrawn: EPSG:2953 replaces it" in said
    assert "outside the area of use of EPSG:2036 (Canada - New Brunswick)" in said
    here = zembrel(*words, "EPSG:32626").err
    assert "withdrawn" not in here and "outside" not in here


def test_a_shift_that_nobody_knows_is_said_or_refused(zembrel: Program) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(20, 20)))
    words = ["reproject", "a.tif", "--crs", "EPSG:4001", "--out", "b.tif"]
    assert "no shift is known" in zembrel.refuses(3, *words, "--strict-crs")[0]
    assert not (zembrel.folder / "b.tif").exists()
    assert "no shift known from World Geodetic System 1984" in zembrel(*words).err
    line = ["coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:4001", "--strict-crs"]
    assert "no shift is known" in zembrel(*line, stdin="1,2\n", code=3).err


def test_the_shift_is_the_one_of_the_place(zembrel: Program) -> None:
    """One old datum, two ends of a continent: other transformations hold there."""
    chosen = []
    for west, south in ((-100, 31), (-150, 62)):
        where = frame(20, 20, 0.001, west, south, by_code(4267))
        save(zembrel.folder / "a.tif", raster(random_cells(20, 20), where=where))
        told = zembrel("reproject", "a.tif", "--crs", "EPSG:4326", "--out", "b.tif", "--replace").err
        chosen.append(told.partition("datum shift ")[2].split()[0])
    assert chosen[0] != chosen[1]


def test_a_circle_holds_the_cells_and_points_as_near_as_its_reach(zembrel: Program) -> None:
    """Distances along the ellipsoid by chords through it, whose arcs are longer by a known little."""
    crs, x0, y0, reach = by_code(32626), 733_000.0, 5_098_000.0, 5_000.0
    save(
        zembrel.folder / "r.tif",
        raster(np.ones((620, 620), np.uint8), where=frame(620, 620, 17.0, x0 - 5_280, y0 + 5_270)),
    )
    zembrel(
        "clip", "r.tif", "--within", f"circle:{x0:.0f},{y0:.0f},{reach:.0f}m@EPSG:32626", "--out", "c.tif"
    )
    clipped = open_raster(zembrel.folder / "c.tif")
    held = clipped.cells(clipped.frame.pane).valid_of(0)
    rows, columns = np.mgrid[: clipped.frame.rows, : clipped.frame.columns].reshape(2, -1).astype(float)
    x, y = clipped.frame.centres(columns, rows)
    away = distances(crs, x, y, np.array([x0]), np.array([y0]))
    sure = np.abs(away - reach) > 1e-3
    assert (held.ravel()[sure] == (away < reach)[sure]).all() and (~sure).sum() < 40
    assert held.sum() > 200_000
