"""What a fetch says beforehand is what it then does: pieces, bytes, what was kept, and which entries there are."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

import depth
from points.clouds import cloud, write
from program import Program
from rasters import frame, raster, save
from sources.island import BOUNDS, SPOT, Site, shelf_item, site
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds

TILES = "/xyz/{version}/ortho/{z}/{x}/{y}.png"
PHOTO = {"version": "912", "zooms": "0-13", "parallel": 8}
FETCH = ("fetch", "s", "--within", ",".join(map(str, BOUNDS)) + "@EPSG:4326", "--json", "--out")


def asked(said: dict[str, Any]) -> dict[str, Any]:
    return next(fact for fact in said["chose"] if fact["fact"] == "pieces_asked")


def tiles_of(zoom: int) -> int:
    """Tiles of the web's tiling that meet BOUNDS, by its formulas."""
    west, south, east, north = BOUNDS
    rows = [(1 - math.asinh(math.tan(math.radians(lat))) / math.pi) / 2 * 2**zoom for lat in (north, south)]
    columns = [(lon + 180) / 360 * 2**zoom for lon in (west, east)]
    return math.prod(math.floor(last) - math.floor(first) + 1 for first, last in (rows, columns))


def test_pieces_of_a_first_run_were_not_kept_before(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **PHOTO)
    first = program(*FETCH, "a.tif").json
    assert asked(first)["kept"] == 0 and asked(first)["pieces"] == first["web"]["requests"] == tiles_of(13)
    again = program(*FETCH, "b.tif").json
    assert asked(again) | {"kept": tiles_of(13), "pieces": 0} == asked(again) and "web" not in again


def test_as_many_bytes_come_as_were_announced(program: Program, island: Site) -> None:
    island.add(program, "s", TILES, "xyz", **PHOTO)
    plan, made = program(*FETCH, "a.tif", "--dry-run").json, program(*FETCH, "a.tif").json
    came = plan["web"]["bytes"] + made["web"]["bytes"]
    assert asked(plan)["bytes"] == pytest.approx(came, rel=0.5), "tiles are of different sizes"


def test_parts_of_a_file_cost_what_was_announced(program: Program, tmp_path: Path) -> None:
    where = frame(3_000, 3_000)
    noise = np.random.default_rng(1).integers(0, 255, (3, 3_000, 3_000), np.uint8)
    big = save(tmp_path / "big.tif", raster(noise, where=where))
    with site([shelf_item(big, carried_bounds(where, by_code(4326)), "2024-01-15", 0)]) as island:
        island.add(program, "s", "/stac", "stac")
        words = (
            "fetch",
            "s",
            "--within",
            "731024,5097600,731624,5098200@EPSG:32626",
            "--json",
            "--out",
            "o.tif",
        )
        plan, made = program(*words, "--dry-run").json, program(*words).json
    assert asked(made)["kept"] == 0 and plan["web"]["files"] == 1
    assert asked(plan)["bytes"] == pytest.approx(made["web"]["bytes"], rel=0.1), "the header is read as well"


@pytest.mark.parametrize("path", [TILES, "/stac"])
def test_what_comes_packed_is_what_comes_plain(program: Program, tmp_path: Path, path: str) -> None:
    where = frame(400, 300)
    colours = np.indices((3, 300, 400)).sum(axis=0).astype(np.uint8)
    picture = save(tmp_path / "p.tif", raster(colours, where=where))
    with site([shelf_item(picture, carried_bounds(where, by_code(4326)), "2024-01-15", 0)]) as island:
        settings = PHOTO if path == TILES else {}
        area = ("--within", "730100,5099500,730900,5099900@EPSG:32626")
        found = []
        for packed in (0.0, 1.0):
            vars(island.faults).update(packed=packed)
            island.add(program, f"s{packed:.0f}", path, "xyz" if settings else "stac", **settings)
            name = f"{packed:.0f}.tif"
            program("fetch", f"s{packed:.0f}", *area, "--out", name)
            found.append(tifffile.imread(program.folder / name))
        np.testing.assert_array_equal(*found)


@pytest.fixture
def survey(program: Program) -> Program:
    """An index of blocks of two products and two years, each block with points of its own class."""
    features = []
    for n, (product, year) in enumerate([("points", 2009), ("points", 2021), ("grid", 2021)]):
        block = cloud(500, side=100.0, seed=n, **{"class": 2 + n})
        write(program.folder / f"b{n}.laz", block)
        west, south, east, north = carried_bounds(frame(1, 1, 100.0, 730_000.0, 5_100_100.0), by_code(4326))
        ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
        properties = {
            "file": f"b{n}.laz",
            "product": product,
            "year": year,
            "number": 7,
            "tags": [product, n],
        }
        features.append(
            {
                "type": "Feature",
                "properties": properties,
                "geometry": {"type": "Polygon", "coordinates": [ring]},
            }
        )
    (program.folder / "index.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "features": features})
    )
    program("source", "add", "b", "index.geojson", "--kind", "blocks")
    return program


AREA = ("--within", "730000,5100000,730100,5100100@EPSG:32626", "--out", "o.laz")


def test_entries_of_an_index_are_picked_by_their_fields(survey: Program) -> None:
    for condition, classes in (
        ("year == 2009", {2}),
        ("year == 2021 and product == 'points'", {3}),
        ("number == 7", {2, 3, 4}),
    ):
        said = survey("fetch", "b", *AREA, "--blocks-where", condition, "--replace", "--json").json
        assert said["chose"][0]["blocks"] == len(classes) and said["chose"][0]["of"] == 3
        held = survey("describe", "o.laz", "--json").json
        assert {int(code) for code in held["layers"][0]["classes"]} == classes


def test_conditions_that_no_entry_meets_are_told_with_what_there_is(survey: Program) -> None:
    what, why, _ = survey.refuses(6, "fetch", "b", *AREA, "--blocks-where", "year == 2010")
    assert "year == 2010" in what and "2009, 2021" in why and "product" not in why
    what, why, remedy = survey.refuses(2, "fetch", "b", *AREA, "--blocks-where", "yaer == 2009")
    assert "yaer" in what + why and "year" in why + remedy
    assert not (survey.folder / "o.laz").exists()
    survey("source", "add", "f", "b0.laz", "--kind", "file")
    assert "index of blocks" in survey.refuses(2, "fetch", "f", *AREA, "--blocks-where", "year == 2009")[0]


def test_the_fields_of_an_index_are_listed_with_their_values(survey: Program) -> None:
    said = survey("source", "test", "b", "--json").json
    assert said["fields"]["year"] == "2009, 2021" and said["fields"]["product"] == "grid, points"
    assert "grid" in said["fields"]["tags"], "lists and tables are listed as text"
    assert "2009, 2021" in survey("source", "test", "b").out


@pytest.mark.parametrize(
    ("cell", "method"),
    depth.some(
        [("3m", "cubic"), ("40m", "lanczos"), ("150m", "mean"), ("0.5m", "bilinear")],
        [("3m", "cubic"), ("150m", "mean")],
    ),
)
def test_what_was_announced_is_all_that_is_asked_for_and_all_that_is_needed(
    program: Program, island: Site, cell: str, method: str
) -> None:
    """Zone 29 is turned against the tiles by 11 degrees here; the other way asks for tiles as it reads."""
    zooms = "15-15" if cell == "0.5m" else "12-14"
    island.add(program, "s", TILES, "xyz", **{**PHOTO, "zooms": zooms})
    reach = "600m" if cell == "0.5m" else "3km"
    words = (
        "--within",
        f"circle:{SPOT[0]},{SPOT[1]},{reach}@EPSG:4326",
        "--crs",
        "EPSG:32629",
        "--cell",
        cell,
    )
    said = program("fetch", "s", *words, "--method", method, "--out", "o.tif", "--json").json
    assert asked(said)["pieces"] == said["web"]["requests"]
    program("reproject", "sources/s.source.toml", "--onto", "o.tif", "--method", method, "--out", "p.tif")
    got, due = (tifffile.imread(program.folder / name) for name in ("o.tif", "p.tif"))
    if cell in ("3m", "0.5m"):
        np.testing.assert_array_equal(got, due)
    else:  # the other way averages the finest tiles
        assert np.median(np.abs(got.astype(int) - due)) <= 1 and np.mean(got > 0) > 0.99
