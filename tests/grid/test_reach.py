"""Distances are along the ellipsoid, whatever CRS they are asked in.

The oracle integrates the equations of a geodesic step by step (Runge-Kutta) and shares no code with the series.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
import shapely
from scipy.optimize import minimize_scalar

from ellipsoid import distances
from zembrel.features.ground import grown
from zembrel.geodesy.registry import by_code
from zembrel.grid.area import parse_area
from zembrel.measure import parse_length

A, F = 6_378_137.0, 1 / 298.257223563
E2 = F * (2 - F)
MILE = 1609.344
FAR = 181 * MILE
HOME = (-24.0, 46.0)


def walked(lon: float, lat: float, azimuth: float, metres: float) -> tuple[float, float]:
    """Degrees at the end of a geodesic, by its differential equations in 400 steps."""

    def slope(state: Any) -> Any:
        _, phi, alpha = state
        w = math.sqrt(1 - E2 * math.sin(phi) ** 2)
        meridian, prime = A * (1 - E2) / w**3, A / w
        east = math.sin(alpha) / (prime * math.cos(phi))
        return np.array([east, math.cos(alpha) / meridian, math.sin(phi) * east])

    state, step = np.array([math.radians(lon), math.radians(lat), azimuth]), metres / 400
    for _ in range(400):
        k1 = slope(state)
        k2 = slope(state + step / 2 * k1)
        k3 = slope(state + step / 2 * k2)
        k4 = slope(state + step * k3)
        state = state + step / 6 * (k1 + 2 * k2 + 2 * k3 + k4)
    return math.degrees(state[0]), math.degrees(state[1])


CODES = (4326, 3857, 32626, 32627, 5070, 3035)


def place(code: int, lon: float, lat: float) -> tuple[float, float]:
    x, y = by_code(code).from_geographic(np.radians([lon]), np.radians([lat]))
    return float(x[0]), float(y[0])


@pytest.mark.parametrize("code", CODES[:4])
def test_a_circle_holds_what_is_so_far_away_in_every_crs(code: int) -> None:
    x, y = place(code, *HOME)
    ring = parse_area(f"circle:{x!r},{y!r},181mi").ring(by_code(code))  # type: ignore[union-attr]
    outline = shapely.LinearRing(ring)
    for turn in np.linspace(0, math.tau, 9)[:-1]:
        edge = shapely.Point(place(code, *walked(*HOME, float(turn), FAR)))
        unit = 1 if code != 4326 else 1 / 111_000
        assert outline.distance(edge) < 12 * unit, "360 chords of 5 km miss the arc by 11 m"


@pytest.mark.parametrize("code", CODES[:3])
def test_a_square_reaches_so_far_each_way(code: int) -> None:
    x, y = place(code, *HOME)
    ring = parse_area(f"square:{x!r},{y!r},25km").ring(by_code(code))  # type: ignore[union-attr]
    west, south, east, north = shapely.Polygon(ring).bounds
    crs = by_code(code)
    for u, v in ((west, y), (east, y), (x, south), (x, north)):
        lon, lat = (float(np.degrees(angle[0])) for angle in crs.to_geographic(np.array([u]), np.array([v])))
        guess = math.atan2((lon - HOME[0]) * math.cos(math.radians(HOME[1])), lat - HOME[1])

        def miss(turn: float, lon: float = lon, lat: float = lat) -> float:
            a, b = walked(*HOME, turn, 25_000)
            return math.hypot((a - lon) * math.cos(math.radians(lat)), b - lat) * 111_000

        bounds = guess - 0.01, guess + 0.01
        assert minimize_scalar(miss, bounds=bounds, method="bounded", options={"xatol": 1e-9}).fun < 0.05


def test_a_circle_around_the_pole_holds_it() -> None:
    ring = parse_area("circle:10,89,500km").ring(by_code(4326))  # type: ignore[union-attr]
    area = shapely.Polygon(ring)
    assert area.is_valid and area.contains(shapely.Point(100, 89.9)) and area.bounds[3] == 90


@pytest.mark.parametrize("code", [4326, 3857, 32626])
def test_what_is_grown_lies_within_reach(code: int) -> None:
    """A line of 60 km: places at 0.99 of the reach lie inside, those at 1.01 outside."""
    crs = by_code(code)
    ends = [place(code, -24.4, 46.0), place(code, -23.6, 46.1)]
    (area,) = grown(np.array([shapely.LineString(ends)], object), crs, 20_000.0)
    for lon, lat in ((-24.4, 46.0), (-23.6, 46.1)):
        outward = 3 * math.pi / 2 if lon < -24 else math.pi / 2
        for turn in (-0.7, 0.0, 0.7):
            for share, inside in ((0.99, True), (1.01, False)):
                there = place(code, *walked(lon, lat, outward + turn, 20_000 * share))
                assert area.contains(shapely.Point(there)) == inside
    point = np.array([shapely.Point(place(code, *HOME))], object)
    (disc,) = grown(point, crs, 1000.0)
    corners = shapely.get_coordinates(disc)
    middle = (np.full(len(corners), v) for v in place(code, *HOME))
    assert len(corners) > 128 and np.ptp(np.unwrap(np.arctan2(*(corners - corners.mean(axis=0)).T))) > 6.28
    np.testing.assert_allclose(distances(crs, *corners.T, *middle), 1000.0, atol=1e-3)


def test_units_are_exact() -> None:
    factor = 1200 / 3937
    assert parse_length("1usft").in_unit("length", factor) == 1.0
    assert parse_length("3ft").in_unit("length", 0.3048) == 3.0
