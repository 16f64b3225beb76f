"""The extent of what goes around the Earth, or across 180 degrees, is one, whatever it begins with."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds
from zembrel.grid.frame import Affine, Frame

DEGREES, WEB = by_code(4326), by_code(3857)
RADIUS = 6_378_137.0
HALF = math.pi * RADIUS


def degrees(west: float, width: float, south: float = -60, north: float = 70) -> Frame:
    """A frame of half a degree, or of a single cell where it is narrower."""
    columns = max(1, round(width / 0.5))
    return Frame(DEGREES, Affine(west, north, width / columns, -(north - south) / 100), columns, 100)


@given(st.floats(-360, 360), st.floats(0.01, 359.9))
def test_a_part_of_the_earth_has_its_own_width_in_a_map_of_it(west: float, width: float) -> None:
    found = carried_bounds(degrees(west, width), WEB)
    assert found[2] - found[0] == pytest.approx(math.radians(width) * RADIUS, rel=1e-6)
    off = (found[0] - math.radians(west) * RADIUS) / (2 * HALF)
    assert off == pytest.approx(round(off), abs=1e-9), "on one of the turns"
    assert -HALF * (1 + 1e-8) <= found[0] < HALF, "it begins on the map"


@pytest.mark.parametrize("west", [-180, -180.0000001, 0, -100, 37.5, 179.9, 180])
def test_all_of_the_earth_is_the_whole_map_wherever_it_begins(west: float) -> None:
    bounds = carried_bounds(degrees(west, 360), WEB)
    assert bounds[0] == pytest.approx(-HALF) and bounds[2] == pytest.approx(HALF)


@pytest.mark.parametrize(("code", "pole"), [(3413, 90.0), (5041, 90.0), (3031, -90.0), (5042, -90.0)])
@pytest.mark.parametrize("off", [0.0, 300_000.0])
def test_what_lies_around_a_pole_has_all_longitudes_up_to_it(code: int, pole: float, off: float) -> None:
    crs = by_code(code)
    x, y = (2_000_000.0, 2_000_000.0) if code in (5041, 5042) else (0.0, 0.0)
    frame = Frame(crs, Affine(x - 1e6 + off, y + 1e6 - off, 2e4, -2e4), 100, 100)
    west, south, east, north = carried_bounds(frame, DEGREES)
    assert (west, east) == (-180, 180)
    assert (north if pole > 0 else south) == pole
    assert abs(south if pole > 0 else north) < 83


@pytest.mark.parametrize(("code", "near"), [(32601, 500_000.0), (32660, 833_000.0)])
def test_a_zone_across_the_antimeridian_stays_narrow(code: int, near: float) -> None:
    frame = Frame(by_code(code), Affine(near - 400_000, 6_000_000, 1_000, -1_000), 500, 50)
    west, _, east, _ = carried_bounds(frame, DEGREES)
    assert (5 < east - west < 12 and west < 180 < east) or west < -180 < east


def test_places_without_coordinates_do_not_widen_an_extent() -> None:
    """Of a web map only a part lies in the domain of a narrow transverse map."""
    frame = Frame(by_code(6933), Affine(-17.3e6, 7.3e6, 1e5, -1e5), 346, 146)
    west, _, east, _ = carried_bounds(frame, DEGREES)
    assert east - west > 355 and np.isfinite([west, east]).all()
