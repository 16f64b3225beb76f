"""World maps that definitions name without a code."""

from __future__ import annotations

import math

import numpy as np
import pytest

from zembrel.geodesy.crs import ProjectedCRS
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.geodesy.text.definition import same_conversion

R = 6378137.0
BASE = 'GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]]'
# name of the map, further parameters, x of the edge at the equator and y of the pole on a globe of radius 1
MAPS = [
    ("Sinusoidal", "", math.pi, None),
    ("Mollweide", "", 2 * math.sqrt(2), math.sqrt(2)),
    ("Robinson", "", 0.8487 * math.pi, 1.3523),
    ("Winkel_Tripel", ',PARAMETER["standard_parallel_1",50.4597762521898]', 1 + math.pi / 2, math.pi / 2),
    ("Winkel_Tripel", "", 1 + math.pi / 2, math.pi / 2),
]


def world(name: str, more: str = "", middle: float = 0.0) -> ProjectedCRS:
    found = read_crs(
        f'PROJCS["World",{BASE},PROJECTION["{name}"],PARAMETER["central_meridian",{middle}],'
        f'PARAMETER["false_easting",0],PARAMETER["false_northing",0]{more},UNIT["metre",1]]'
    )
    assert isinstance(found, ProjectedCRS)
    return found


@pytest.mark.parametrize("name, more, edge, pole", MAPS)
def test_the_world_has_its_published_outline(name: str, more: str, edge: float, pole: float | None) -> None:
    made = world(name, more)
    x, y = made.from_geographic(np.array([math.pi, 0.0]), np.array([0.0, math.pi / 2]))
    assert x[0] == pytest.approx(edge * R, rel=1e-9)
    if pole is not None:
        assert y[1] == pytest.approx(pole * R, rel=1e-9)
    beyond = made.to_geographic(np.array([1.001 * x[0], 0.0]), np.array([0.0, 1.001 * y[1]]))
    assert np.isnan(beyond).all()


@pytest.mark.parametrize("name, more", [m[:2] for m in MAPS])
@pytest.mark.parametrize("middle", [0.0, 150.0])
def test_every_place_comes_back(name: str, more: str, middle: float) -> None:
    made = world(name, more, middle)
    lon, lat = np.radians(np.meshgrid(np.linspace(-179, 179, 37) + middle, np.linspace(-89.9, 89.9, 41)))
    x, y = made.from_geographic(lon, lat)
    back = made.from_geographic(*made.to_geographic(x, y))
    assert np.hypot(back[0] - x, back[1] - y).max() < 1e-4


@pytest.mark.parametrize("name", ["Sinusoidal", "Mollweide"])
def test_equal_areas_stay_equal(name: str) -> None:
    made, step = world(name), 1e-5
    lon, lat = np.radians(np.meshgrid(np.linspace(-150, 150, 11), np.linspace(-80, 80, 9)))
    west, east = made.from_geographic(lon - step, lat), made.from_geographic(lon + step, lat)
    south, north = made.from_geographic(lon, lat - step), made.from_geographic(lon, lat + step)
    size = (east[0] - west[0]) * (north[1] - south[1]) - (north[0] - south[0]) * (east[1] - west[1])
    if name == "Sinusoidal":
        shape = made.datum.ellipsoid
        ground = shape.parallel_radius(lat) * shape.meridian_radius(lat)
    else:
        ground = R * R * np.cos(lat)
    np.testing.assert_allclose(size / (4 * step * step), ground, rtol=1e-6)


def test_robinson_keeps_to_its_table() -> None:
    """Parallels of 45, 60 and 85 degrees: length against the equator's, and height."""
    made = world("Robinson")
    x, y = made.from_geographic(np.full(4, 1.0), np.radians([0, 45, 60, 85]))
    assert x[1:] / x[0] == pytest.approx([0.8962, 0.7986, 0.5722], abs=1e-12)
    assert y[1:] / (1.3523 * R) == pytest.approx([0.5571, 0.7346, 0.9761], abs=1e-12)


@pytest.mark.parametrize("name, more", [m[:2] for m in MAPS])
@pytest.mark.parametrize("form", ["wkt1", "wkt2", "prj", "json"])
def test_every_text_reads_back(name: str, more: str, form: str) -> None:
    made = world(name, more, 20.0)
    back = read_crs(write_crs(made, form))
    assert isinstance(back, ProjectedCRS) and same_conversion(back.conversion, made.conversion)
    assert back.base == made.base
