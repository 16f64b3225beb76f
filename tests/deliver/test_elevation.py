"""Raw terrains and cells of one degree: where heights lie in them, and what they are."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from program import Program
from rasters import frame, raster, save
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame

LON, LAT = -23.9954, 46.0123  # of the peak
WEST, NORTH, CELL = 730_000.0, 5_100_000.0, 10.0


def plane(lon: float, lat: float) -> tuple[float, float]:
    x, y = by_code(32626).from_geographic(np.radians([lon]), np.radians([lat]))  # type: ignore[union-attr]
    return float(x[0]), float(y[0])


@pytest.fixture
def island(zembrel: Program) -> Program:
    """Heights with one peak that slope up to the east, without any in the north-west, and a photo of both."""
    rows, columns = np.mgrid[:300, :400]
    x, y = plane(LON, LAT)
    left, top = x - 2400, y + 1300
    east, north = left + CELL * (columns + 0.5), top - CELL * (rows + 0.5)
    bump = np.exp(-((east - x) ** 2 + (north - y) ** 2) / (2 * 60**2))
    frame = Frame(by_code(32626), Affine(left, top, CELL, -CELL), 400, 300)
    valid = ~((rows < 60) & (columns < 80))
    save(
        zembrel.folder / "dem.tif",
        raster((100 + columns / 4 + 500 * bump).astype(np.float32), valid=valid, where=frame, nodata=-9.0),
    )
    photo = np.stack([40 + 200 * bump, 90 + rows / 4, 30 + columns / 4]).astype(np.uint8)
    save(zembrel.folder / "photo.tif", raster(photo, where=frame))
    return zembrel


def terrain(folder: Path) -> tuple[Any, dict[str, Any]]:
    """Heights in metres, first row as it lies in the file, and what the TOML says of them."""
    told = tomllib.loads((folder / "terrain.toml").read_text())
    kind = {"little": "<u2", "big": ">u2"}[told["order"]]
    numbers = np.fromfile(folder / told["terrain"], kind).reshape(told["rows"], told["columns"])
    return told["lowest_m"] + numbers / 65535 * told["relief_m"], told


@pytest.mark.parametrize("turn", [0, 90, 180, 270])
@pytest.mark.parametrize("north", ["top", "bottom"])
def test_the_peak_lies_at_its_place_however_the_terrain_is_turned(
    island: Program, turn: int, north: str
) -> None:
    island(
        "deliver", "heightmap", "dem.tif", "--overlay", "photo.tif", "--size", "513", "--overlay-size", "1024",
        "--turn", turn, "--north", north, "--order", "big" if turn else "little", "--out", "engine/",
    )  # fmt: skip
    heights, told = terrain(island.folder / "engine")
    assert told["north_is_at"] == {0: "top", 90: "right", 180: "bottom", 270: "left"}[turn]
    assert told["east_west_m"] == told["north_south_m"] == pytest.approx(4000)
    upright = np.rot90(heights if north == "top" else heights[::-1], turn // 90)
    x, y = plane(LON, LAT)
    due = ((told["north"] - y) / 4000 * 512, (x - told["west"]) / 4000 * 512)
    row, column = np.unravel_index(upright.argmax(), upright.shape)
    assert abs(row - due[0]) <= 0.6 and abs(column - due[1]) <= 0.6
    assert upright[int(row), 511] == pytest.approx(100 + 399 / 4, abs=1), "it slopes up to the east"
    picture = np.asarray(Image.open(island.folder / "engine/photo.png").convert("RGB"))
    red = np.rot90(picture, turn // 90)[..., 0].astype(float)
    weights = np.where(red > 150, red, 0)  # the middle of the bump
    assert (weights.sum(1) @ np.arange(1024)) / weights.sum() == pytest.approx(due[0] * 2 - 0.5, abs=1)
    assert (weights.sum(0) @ np.arange(1024)) / weights.sum() == pytest.approx(due[1] * 2 - 0.5, abs=1)


def test_numbers_span_the_range_and_voids_follow_their_rule(island: Program) -> None:
    words = ("deliver", "heightmap", "dem.tif", "--size", "257", "--out")
    said = island(*words, "a/", "--json").json
    heights, told = terrain(island.folder / "a")
    assert heights.min() == told["lowest_m"] == 0 and heights.max() == pytest.approx(told["highest_m"])
    facts = {fact["fact"]: fact for fact in said["chose"] + said["checks"]}
    assert facts["voids_filled"]["cells"] == (heights == 0).sum() > 257 * 60
    assert facts["terrain_read_back"]["most"] <= told["relief_m"] / 65535 / 2 * 1.001
    assert f"{told['relief_m']:.10g} m" in told["say"] and "257 x 257" in told["say"]
    island(*words, "b/", "--void", "lowest")
    heights, told = terrain(island.folder / "b")
    assert told["lowest_m"] == pytest.approx(100, abs=0.2) and heights.min() == told["lowest_m"]
    said = island(*words, "c/", "--range", "120,300", "--void", "150", "--json").json
    heights, told = terrain(island.folder / "c")
    assert (told["lowest_m"], told["highest_m"]) == (120, 300) and heights[0, 0] == pytest.approx(
        150, abs=0.01
    )
    assert any(fact["fact"] == "heights_held_at_ends" and fact["cells"] > 100 for fact in said["checks"])


def test_an_area_in_miles_gives_metres_and_degrees_get_a_fitting_zone(island: Program) -> None:
    island("reproject", "dem.tif", "--crs", "EPSG:4326", "--out", "degrees.tif")
    area = f"square:{LON},{LAT},0.5mi@EPSG:4326"
    island("deliver", "heightmap", "degrees.tif", "--within", area, "--size", "129", "--out", "e/")
    heights, told = terrain(island.folder / "e")
    assert told["crs"] == "EPSG:32627" and told["east_west_m"] == pytest.approx(1609.344, rel=2e-3)
    assert np.unravel_index(heights.argmax(), heights.shape) == (64, 64)
    refused = island.refuses(2, "deliver", "heightmap", "dem.tif", "--crs", "EPSG:3857", "--out", "f/")
    assert "true to scale" in refused[0]


@pytest.mark.parametrize(
    "code, words",
    [
        (2, ("dem.tif", "--size", "1000")), (2, ("dem.tif", "--turn", "45")), (2, ("dem.tif", "--north", "left")),
        (2, ("dem.tif", "--void", "deep")), (2, ("dem.tif", "--order", "middle")), (3, ("photo.tif",)),
        (2, ("dem.tif", "--overlay", "photo.tif", "--overlay", "x/photo.tif")), (3, ("dem.tif", "--overlay", "no.tif")),
        (2, ("dem.tif", "--sea", "nan")), (4, ("dem.tif", "--range", "0,1e-320")), (2, ("dem.tif", "--range", "9,1")), (4, ("dem.tif", "--ceiling", "1MB")), (3, ("dem.tif", "--within", "0,0,9,9")),
    ],
)  # fmt: skip
def test_a_terrain_that_cannot_be_is_refused(island: Program, code: int, words: tuple[str, ...]) -> None:
    island.refuses(code, "deliver", "heightmap", *words, "--out", "g/")


def test_cells_of_one_degree_hold_the_heights_of_the_source_at_whole_seconds(island: Program) -> None:
    said = island("deliver", "hgt", "dem.tif", "--out", "cells/", "--json").json
    names = sorted(path.name for path in (island.folder / "cells").iterdir())
    assert names == ["N45W024.hgt", "N45W025.hgt", "N46W024.hgt", "N46W025.hgt"]
    facts = {fact["fact"]: fact for fact in said["chose"] + said["checks"]}
    assert facts["degree_cells"]["side"] == 3601 and facts["against_source"]["rms"] < 2
    west = np.fromfile(island.folder / "cells/N46W024.hgt", ">i2").reshape(3601, 3601)
    row, column = np.unravel_index(west.argmax(), west.shape)
    assert abs(row - (47 - LAT) * 3600) <= 1 and abs(column - (LON + 24) * 3600) <= 1
    assert (west == -32768).sum() > 12_000_000
    other = np.fromfile(island.folder / "cells/N46W025.hgt", ">i2").reshape(3601, 3601)
    assert (other[:, -1] == west[:, 0]).all(), "neighbours share the nodes between them"


def test_their_step_follows_the_source_or_is_asked_for(island: Program) -> None:
    island("resample", "dem.tif", "--cell", "200m", "--out", "coarse.tif")
    island("deliver", "hgt", "coarse.tif", "--out", "c/")
    assert {path.stat().st_size for path in (island.folder / "c").iterdir()} == {2 * 1201 * 1201}
    plan = island("deliver", "hgt", "dem.tif", "--cell", "3arcsec", "--out", "d/", "--dry-run").err
    assert "1,201 heights a side" in plan and not (island.folder / "d").exists()
    assert "1arcsec" in island.refuses(2, "deliver", "hgt", "dem.tif", "--cell", "30m", "--out", "d/")[1]
    island.refuses(3, "deliver", "hgt", "photo.tif", "--out", "d/")
    island.refuses(4, "deliver", "hgt", "dem.tif", "--out", "c/")


def test_cells_lie_on_both_sides_of_the_antimeridian_and_a_rerun_reads_none_of_them(zembrel: Program) -> None:
    where = Frame(by_code(4326), Affine(179.9, 60.0, 0.001, -0.001), 200, 100)
    heights = np.add.outer(np.arange(100), np.arange(200)).astype(np.float32)
    save(zembrel.folder / "a.tif", raster(heights, where=where))
    for more in ((), ("--replace",)):
        said = zembrel("deliver", "hgt", ".", "--cell", "3arcsec", "--out", "cells/", *more, "--json").json
        assert said["inputs"] == ["a.tif"] and said["results"][0]["count"] == 2
    west, east = (
        np.fromfile(zembrel.folder / f"cells/{name}.hgt", ">i2").reshape(1201, 1201)
        for name in ("N59E179", "N59W180")
    )
    assert west[5, -1] == east[5, 0] == pytest.approx(105, abs=2) and east[5, 100] > 180


def four_cells(folder: Path, side: int = 121) -> np.ndarray:
    """Heights of four whole cells of one degree, on nodes 30 arc-seconds apart, the outer ones on degrees."""
    count = 2 * side - 1
    rows, columns = np.mgrid[:count, :count]
    heights = (300 + 2 * rows + columns).astype(np.int16)
    step = 1 / (side - 1)
    where = Frame(by_code(4326), Affine(-25.0, 47.0, step, -step), count, count, "node")
    save(folder / "four.tif", raster(heights, where=where))
    return heights


def test_cells_that_would_hold_an_edge_alone_are_not_made(zembrel: Program) -> None:
    four_cells(zembrel.folder)
    (zembrel.folder / "cells").mkdir()
    neighbour = zembrel.folder / "cells/N47W025.hgt"
    neighbour.write_bytes(b"a good neighbour")
    plan = zembrel("deliver", "hgt", "four.tif", "--out", "cells/", "--dry-run", "--json").json
    assert plan["results"][0]["count"] == 4
    zembrel("deliver", "hgt", "four.tif", "--out", "cells/")
    made = sorted(path.name for path in (zembrel.folder / "cells").iterdir())
    assert made == ["N45W024.hgt", "N45W025.hgt", "N46W024.hgt", "N46W025.hgt", "N47W025.hgt"]
    assert neighbour.read_bytes() == b"a good neighbour"
    said = zembrel("deliver", "hgt", "four.tif", "--edges", "--out", "all/", "--json").json
    assert said["results"][0]["count"] == 16


@pytest.mark.parametrize("more", [
    (), ("--cell", "3arcsec"), ("--crs", "EPSG:4326"), ("--within", "degree:N46W025"),
    ("--cell", "3arcsec", "--crs", "EPSG:4326", "--within", "degree:N46W025"),
], ids=" ".join)  # fmt: skip
@pytest.mark.parametrize("verb", ["reproject", "mosaic"])
def test_more_words_do_not_break_what_the_name_says(
    zembrel: Program, verb: str, more: tuple[str, ...]
) -> None:
    four_cells(zembrel.folder)
    zembrel(verb, "four.tif", "--method", "bilinear", *more, "--out", "N46W025.hgt")
    held = np.fromfile(zembrel.folder / "N46W025.hgt", ">i2").reshape(1201, 1201)
    row, column = np.mgrid[:1201:10, :1201:10] // 10
    assert (held[::10, ::10] == 300 + 2 * row + column).all()


def test_an_area_within_a_named_cell_is_kept_alone(zembrel: Program) -> None:
    four_cells(zembrel.folder)
    zembrel("reproject", "four.tif", "--within", "-24.75,46.25,-24.5,46.5", "--out", "N46W025.hgt")
    held = np.fromfile(zembrel.folder / "N46W025.hgt", ">i2").reshape(1201, 1201) != -32768
    assert held[601:899, 301:599].all() and held.sum() <= 301 * 301
    said = zembrel.refuses(4, "reproject", "four.tif", "--cell", "30arcsec", "--out", "N45W025.hgt")
    assert "degree:N45W025" in said[2]


@pytest.mark.parametrize("method", [(), ("--method", "cubic"), ("--method", "lanczos")], ids=lambda m: m[-1:])
@pytest.mark.parametrize("size", [65, 129, 257])
def test_a_tower_is_as_high_as_it_is(zembrel: Program, size: int, method: tuple[str, ...]) -> None:
    heights = np.full((100, 100), 100, np.float32)
    heights[40:60, 40:60] = 900
    heights[:20] = -5
    save(zembrel.folder / "t.tif", raster(heights, where=frame(100, 100), unit="m"))
    zembrel("deliver", "heightmap", "t.tif", "--size", str(size), *method, "--out", "m/")
    about = tomllib.loads((zembrel.folder / "m/terrain.toml").read_text())
    numbers = np.fromfile(zembrel.folder / "m/terrain.r16", "<u2").astype(float)
    low, high = float(about["lowest_m"]), float(about["highest_m"])
    made = low + numbers * (high - low) / 65535
    assert -5.01 <= made.min() <= 0 and 899 < made.max() <= 900.01


@pytest.mark.parametrize("words", [("hgt", "--cell", "3arcsec", "--out", "c/"),
                                   ("pyramid", "--heights", "grey", "--zooms", "12-13", "--out", "p/")])  # fmt: skip
def test_no_pack_of_heights_swings_past_the_source(zembrel: Program, words: tuple[str, ...]) -> None:
    heights = np.full((300, 300), 100, np.float32)
    heights[100:200, 100:200] = 900
    save(zembrel.folder / "t.tif", raster(heights, where=frame(300, 300, cell=60.0), unit="m"))
    kind, *rest = words
    zembrel("deliver", kind, "t.tif", *rest)
    if kind == "hgt":
        held = [np.fromfile(path, ">i2") for path in (zembrel.folder / "c").iterdir()]
        values = np.concatenate(held).astype(float)
        values = values[values != -32768]
    else:
        about = json.loads((zembrel.folder / "p/tiles.json").read_text())["elevation"]
        tiles = [np.asarray(Image.open(path)) for path in (zembrel.folder / "p/13").rglob("*.png")]
        numbers = np.concatenate([tile[..., 0].ravel() if tile.ndim == 3 else tile.ravel() for tile in tiles])
        values = about["base"] + about["step"] * numbers[numbers > 0].astype(float)
    assert values.min() >= 99.5 and 899 <= values.max() <= 900.5
