"""A grid of the whole world, brought to the poles, across the antimeridian and onto world maps."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

import depth
from program import Program
from rasters import raster, save
from zembrel.formats import open_raster
from zembrel.geodesy.crs import ProjectedCRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.framefile import write_frame

CELL = 0.5  # degrees
CLOSE = 0.1  # globe units; the steepest cell differs from its neighbour by 0.87


@pytest.fixture
def earth(zembrel: Program) -> Program:
    """Bands of smooth functions of the place: x, y and z on a globe of radius 100."""
    lon, lat = np.radians(
        np.meshgrid(np.arange(-180 + CELL / 2, 180, CELL), np.arange(90 - CELL / 2, -90, -CELL))
    )
    save(
        zembrel.folder / "earth.tif",
        raster(globe(lon, lat), where=Frame(by_code(4326), Affine(-180, 90, CELL, -CELL), 720, 360)),
    )
    return zembrel


def globe(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    return 100 * np.array([np.cos(lat) * np.cos(lon), np.cos(lat) * np.sin(lon), np.sin(lat)])


def misses(path: Path, crs: ProjectedCRS) -> tuple[float, float]:
    """The largest error in globe units where valid, and the share of cells on the globe that are valid."""
    made = open_raster(path)
    cols, rows = np.meshgrid(np.arange(made.frame.columns), np.arange(made.frame.rows))
    lon, lat = crs.to_geographic(*made.frame.centres(cols, rows))
    block, on_globe = made.cells(made.frame.pane), np.isfinite(lon)
    valid = (
        np.ones_like(on_globe)
        if block.valid is None
        else block.valid.reshape(-1, *on_globe.shape).all(axis=0)
    )
    assert not (valid & ~on_globe).any()
    errors = np.abs(block.cells - globe(lon, lat))[:, valid & on_globe]
    return float(errors.max()), float(valid.sum() / on_globe.sum())


@pytest.mark.parametrize(
    "code",
    depth.some([3413, 3031, 5041, 32601, 3832, 2193, 3035, 3857, 3395, 6933], [3413, 32601, 3857, 2193]),
)
def test_a_registered_map_shows_its_part_of_the_world(earth: Program, code: int) -> None:
    said = earth("reproject", "earth.tif", "--crs", f"EPSG:{code}", "--out", "m.tif").err
    assert "cut to the area of use" in said and "outside the area" not in said
    crs = by_code(code)
    assert isinstance(crs, ProjectedCRS)
    worst, share = misses(earth.folder / "m.tif", crs)
    assert worst < CLOSE and share == 1.0


@pytest.mark.parametrize("name", ["Mollweide", "Robinson", "Winkel_Tripel", "Sinusoidal"])
def test_a_world_map_is_whole_and_empty_around(earth: Program, name: str) -> None:
    text = earth("crs", "show", "EPSG:4326", "--as", "wkt1").out.strip()
    parameters = (
        'PARAMETER["central_meridian",150],PARAMETER["false_easting",0],PARAMETER["false_northing",0]'
    )
    text = f'PROJCS["World",{text},PROJECTION["{name}"],{parameters},UNIT["metre",1]]'
    earth("reproject", "earth.tif", "--crs", text, "--out", "m.tif")
    crs = open_raster(earth.folder / "m.tif").frame.crs
    assert isinstance(crs, ProjectedCRS)
    worst, share = misses(earth.folder / "m.tif", crs)
    assert worst < CLOSE and share == 1.0


def test_a_wide_country_in_one_zone_is_not_cut(zembrel: Program) -> None:
    cells = np.zeros((40, 80), np.uint8)
    save(
        zembrel.folder / "a.tif", raster(cells, where=Frame(by_code(4326), Affine(4, 72, 0.3, -0.3), 80, 40))
    )
    assert "cut" not in zembrel("reproject", "a.tif", "--crs", "EPSG:32633", "--out", "b.tif").err


@pytest.mark.parametrize("code", [3857, 3395, 3832])
def test_a_grid_across_the_antimeridian_stays_one_piece(zembrel: Program, code: int) -> None:
    lon, lat = np.radians(np.meshgrid(np.arange(170.25, 190, 0.5), np.arange(9.75, -10, -0.5)))
    where = Frame(by_code(4326), Affine(170, 10, 0.5, -0.5), 40, 40)
    save(zembrel.folder / "a.tif", raster(globe(lon, lat), where=where))
    zembrel("reproject", "a.tif", "--crs", f"EPSG:{code}", "--out", "b.tif")
    assert open_raster(zembrel.folder / "b.tif").frame.columns < 50
    zembrel("reproject", "b.tif", "--onto", "a.tif", "--out", "c.tif")
    back = open_raster(zembrel.folder / "c.tif")
    inner = back.cells(back.frame.pane).cells[:, 4:-4, 4:-4]
    np.testing.assert_allclose(inner, globe(lon, lat)[:, 4:-4, 4:-4], atol=CLOSE)


def test_a_world_in_web_mercator_has_no_seam(earth: Program) -> None:
    edge = math.pi * 6378137
    whole = Frame(by_code(3857), Affine(-edge, edge / 2, edge / 360, -edge / 360), 720, 360)
    (earth.folder / "web.frame.toml").write_text(write_frame(whole))
    earth("reproject", "earth.tif", "--onto", "web.frame.toml", "--out", "web.tif")
    earth(
        "reproject", "web.tif", "--crs", "EPSG:32601", "--within", "179,5,-178,15@EPSG:4326", "--out", "z.tif"
    )
    worst, share = misses(earth.folder / "z.tif", by_code(32601))
    assert worst < 2 * CLOSE and share == 1.0
