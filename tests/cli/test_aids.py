"""Shift grids, height grids, epochs and units of heights, given on the command line."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from program import Program
from rasters import frame, raster, save
from shiftgrids import ISLAND, constant, write_ntv2
from zembrel.formats import open_raster
from zembrel.geodesy.crs import vertical_of
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code, parse_crs
from zembrel.grid.frame import Affine, Frame

OLD = (
    'GEOGCS["Marrowick 1936",DATUM["Marrowick 1936",SPHEROID["WGS 84",6378137,298.257223563]],'
    'PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]]'
)
ABOVE, SEA = "EPSG:32626 + ellipsoidal height", "EPSG:32626 + EPSG:5773"
FOOT = 0.3048


@pytest.fixture
def island(zembrel: Program) -> Program:
    """A shift grid, geoid heights of 50 m + 1 m for each degree east, and flat ground 100 m above the ellipsoid."""
    write_ntv2(zembrel.folder / "old.gsb", ISLAND._replace(shift=constant(3.6, -7.2)))
    lon, _ = np.meshgrid(np.arange(-26, -21.9, 0.25), np.arange(48, 43.9, -0.25))
    where = Frame(by_code(4326), Affine(-26, 48, 0.25, -0.25), lon.shape[1], lon.shape[0], "node")
    save(zembrel.folder / "geoid.tif", raster((50 + lon).astype("float32"), where=where))
    zembrel("convert", "geoid.tif", "--out", "geoid.gtx")
    flat = np.full((40, 60), 100, "int16")
    for name, crs in (("above", ABOVE), ("bare", "EPSG:32626")):
        save(zembrel.folder / f"{name}.tif", raster(flat, where=frame(60, 40, 30.0, crs=parse_crs(crs))))
    return zembrel


def numbers(text: str) -> list[list[float]]:
    return [[float(part) for part in line.split(",")] for line in text.splitlines()]


def test_points_go_through_a_shift_grid_and_back(island: Program) -> None:
    grid = ("--shift-grid", "old.gsb")
    there = island("coords", "--from-crs", OLD, "--crs", "EPSG:4326", *grid, stdin="-24,46\n-20,46\n")
    found = numbers(there.out)
    assert found[0] == pytest.approx([-24 + 0.001, 46 - 0.002], abs=1e-10) and np.isnan(found[1]).all()
    assert "MARROW36 to WGS84 by old.gsb" in there.err and "1 outside the domain" in there.err
    back = island("coords", "--from-crs", "EPSG:4326", "--crs", OLD, *grid, stdin=there.out.splitlines()[0])
    assert numbers(back.out)[0] == pytest.approx([-24, 46], abs=1e-10)


def test_a_raster_goes_through_a_shift_grid(island: Program) -> None:
    """The same cells lie 0.001 degrees further east and 0.002 further south."""
    (island.folder / "old.prj").write_text(OLD)
    cells = np.random.default_rng(2).integers(0, 200, (30, 30)).astype("uint8")
    where = Frame(None, Affine(-24.015, 46.015, 0.001, -0.001), 30, 30)
    save(island.folder / "scan.tif", raster(cells, where=where))
    said = island(
        "reproject", "scan.tif", "--from-crs", "old.prj", "--crs", "EPSG:4326", "--shift-grid", "old.gsb",
        "--cell", "0.001", "--method", "nearest", "--out", "new.tif",
    )  # fmt: skip
    assert "by old.gsb" in said.err
    made = open_raster(island.folder / "new.tif")
    assert made.frame.bounds == pytest.approx([-24.014, 45.983, -23.984, 46.013], abs=1e-9)
    np.testing.assert_array_equal(made.cells(made.frame.pane).cells[0], cells)


@pytest.mark.parametrize("grid", ["geoid.tif", "geoid.gtx"])
def test_heights_of_points_come_down_to_the_sea(island: Program, grid: str) -> None:
    lines = "-24,46,100,quay\n-23.5,46,10,mole\n-10,46,10,far\n"
    said = island("coords", "--from-crs", "EPSG:4979", "--crs", SEA, "--height-grid", grid, stdin=lines)
    z = [float(line.split(",")[2]) for line in said.out.splitlines()]
    assert z[:2] == pytest.approx([100 - 26, 10 - 26.5], abs=1e-5) and np.isnan(z[2])
    assert [line.split(",")[3] for line in said.out.splitlines()] == ["quay", "mole", "far"]
    assert f"heights from ellipsoidal height to EPSG:5773 EGM96 height by {grid}" in said.err
    feet = island(
        "coords",
        "--from-crs",
        "EPSG:4979",
        "--crs",
        SEA,
        "--height-grid",
        grid,
        "--z-unit",
        "ft",
        stdin="-24,46,100\n",
    )
    assert numbers(feet.out)[0][2] == pytest.approx(74 / FOOT, abs=1e-4)


def test_heights_of_a_raster_come_down_to_the_sea(island: Program) -> None:
    island("reproject", "above.tif", "--crs", SEA, "--height-grid", "geoid.gtx", "--out", "sea.tif")
    made = open_raster(island.folder / "sea.tif")
    assert made.frame.crs == parse_crs(SEA) and made.bands[0].unit == "m" and made.bands[0].type == "float32"
    cols, rows = np.meshgrid(np.arange(60.0), np.arange(40.0))
    lon, _ = operation(made.frame.crs, by_code(4326))(*made.frame.centres(cols, rows))
    np.testing.assert_allclose(made.cells(made.frame.pane).cells[0], 100 - (50 + lon), atol=1e-4)


def test_what_nobody_says_about_heights_is_not_passed_over(island: Program) -> None:
    said = island("reproject", "bare.tif", "--crs", SEA, "--out", "guess.tif").err
    assert "EPSG:32626 WGS 84 / UTM zone 26N does not say what heights mean: taken as EPSG:5773" in said
    island.refuses(3, "reproject", "bare.tif", "--crs", SEA, "--strict-crs", "--out", "x.tif")
    both = ("mosaic", "above.tif", "guess.tif", "--out")
    assert "no way known from EPSG:5773 EGM96 height to ellipsoidal height" in island(*both, "a.tif").err
    assert "heights of unlike meaning" in island(*both, "b.tif", "--crs", "EPSG:32627").err
    assert "EPSG:5773" in island("crs", "find", "EGM96", "height").out


def test_what_heights_mean_is_kept_where_nobody_asks_for_more(island: Program) -> None:
    island("reproject", "above.tif", "--crs", "EPSG:32627", "--out", "next.tif")
    made = open_raster(island.folder / "next.tif").frame.crs
    assert vertical_of(made) == vertical_of(parse_crs(ABOVE))
    island(
        "clip",
        "bare.tif",
        "--from-crs",
        SEA,
        "--within",
        "730000,5099000,731000,5100000",
        "--out",
        "part.tif",
    )
    assert open_raster(island.folder / "part.tif").frame.crs == parse_crs(SEA)


@pytest.mark.parametrize(
    "words, factor",
    [
        (["convert", "above.tif"], 1 / FOOT),
        (["convert", "bare.tif", "--from-z-unit", "ft"], 1.0),
        (["convert", "bare.tif", "--from-z-unit", "usft"], 1200 / 3937 / FOOT),
        (["reproject", "above.tif", "--crs", "EPSG:32627", "--method", "nearest"], 1 / FOOT),
    ],
)
def test_units_of_heights_change_when_asked(island: Program, words: list[str], factor: float) -> None:
    island(*words, "--z-unit", "ft", "--out", "feet.tif")
    block = open_raster(island.folder / "feet.tif").cells(open_raster(island.folder / "feet.tif").frame.pane)
    values = block.cells[0][block.valid_of(0)]
    np.testing.assert_allclose(values, 100 * factor, rtol=1e-6)


def test_an_epoch_moves_what_time_moves(island: Program) -> None:
    """Australia drifts 7 cm a year to the north-east of what was fixed in 1994."""
    at = ("coords", "--from-crs", "EPSG:9000", "--crs", "EPSG:4283")
    early, late = (island(*at, "--epoch", year, stdin="133,-25\n") for year in ("2000", "2010"))
    (x0, y0), (x1, y1) = numbers(early.out)[0], numbers(late.out)[0]
    metres = np.hypot((x1 - x0) * np.cos(np.radians(25)), y1 - y0) * 111_320
    assert metres / 10 == pytest.approx(0.068, abs=0.006) and x1 < x0 and y1 < y0
    assert "at epoch 2010" in late.err and "its own" in island(*at, stdin="133,-25\n").err


@pytest.mark.parametrize(
    "words, code, what",
    [
        (["--crs", "EPSG:32627", "--shift-grid", "geoid.gtx"], 3, "geoid.gtx is no shift grid"),
        (["--crs", "EPSG:32627", "--shift-grid", "none.gsb"], 3, "none.gsb cannot be read"),
        (["--crs", "EPSG:32627", "--shift-grid", "old.gsb"], 3, "old.gsb is of no use here"),
        (["--crs", "EPSG:32627", "--height-grid", "geoid.gtx"], 3, "geoid.gtx is of no use here"),
        (["--crs", SEA, "--height-grid", "old.gsb"], 3, "old.gsb is of no format Zembrel reads"),
        (
            ["--crs", SEA, "--strict-crs"],
            3,
            "no way is known from ellipsoidal height to EPSG:5773 EGM96 height",
        ),
        (["--crs", "EPSG:32627", "--z-unit", "cubit"], 2, "unit 'cubit' of heights"),
        (["--crs", "EPSG:32627", "--epoch", "20"], 2, "--epoch 20"),
        (["--crs", "EPSG:32627 + EPSG:4326"], 3, "EPSG:4326 is no vertical CRS"),
        (["--crs", "EPSG:5773"], 3, "the CRS EGM96 height cannot be computed with"),
    ],
)
def test_what_does_not_fit_is_refused(island: Program, words: list[str], code: int, what: str) -> None:
    assert island.refuses(code, "reproject", "above.tif", *words, "--out", "x.tif")[0] == what


def test_colours_are_no_heights(island: Program) -> None:
    photo = np.full((3, 40, 60), 100, "uint8")
    save(island.folder / "photo.tif", raster(photo, where=frame(60, 40, 30.0, crs=parse_crs(ABOVE))))
    said = island.refuses(3, "convert", "photo.tif", "--z-unit", "ft", "--out", "x.tif")
    assert said[0] == "there are no heights to change"
    island("reproject", "photo.tif", "--crs", SEA, "--height-grid", "geoid.gtx", "--out", "same.tif")
    made = open_raster(island.folder / "same.tif")
    assert made.frame.crs == parse_crs(SEA) and (made.cells(made.frame.pane).cells == 100).all()


def test_heights_in_no_known_unit_are_not_converted(island: Program) -> None:
    said = island.refuses(3, "convert", "bare.tif", "--z-unit", "ft", "--out", "x.tif")
    assert said[0] == "nobody says in which unit the heights are" and "--from-z-unit" in said[2]
    Path(island.folder / "p.csv").write_text("-24,46,x\n")
    at = (
        "coords",
        "--from-crs",
        "EPSG:4979",
        "--crs",
        SEA,
        "--height-grid",
        "geoid.gtx",
        "--inputs-from",
        "p.csv",
    )
    assert island.refuses(3, *at)[0].startswith("line 1 is no point")
