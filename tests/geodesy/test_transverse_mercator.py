"""Transverse Mercator against two oracles: the published worked example, and the differential equation
that defines the projection, integrated numerically in the complex plane."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import quad, solve_ivp

from zembrel.geodesy.ellipsoid import GRS_1980, WGS_84, Ellipsoid
from zembrel.geodesy.projections import Projection, build
from zembrel.geodesy.registry import by_code


def mercator(ellipsoid: Ellipsoid, lat: float, lon: float, scale: float, x: float, y: float) -> Projection:
    return build(9807, ellipsoid, {8801: lat, 8802: lon, 8805: scale, 8806: x, 8807: y})


PLAIN = mercator(WGS_84, 0.0, 0.0, 1.0, 0.0, 0.0)


def integrated(ellipsoid: Ellipsoid, lat: float, lon: float) -> tuple[float, float]:
    """Easting and northing by integrating dz/dw and dphi/dw along the parallel, w = isometric latitude + i lon.

    On the ellipsoid dphi/dw = cos phi (1 - e^2 sin^2 phi) / (1 - e^2) and dz/dw = a cos phi /
    sqrt(1 - e^2 sin^2 phi), both analytic; z = northing + i easting is the arc of the meridian on it.
    """
    a, e2 = ellipsoid.semi_major, ellipsoid.eccentricity**2
    arc, _ = quad(
        lambda p: a * (1 - e2) / (1 - e2 * math.sin(p) ** 2) ** 1.5, 0, lat, epsabs=1e-7, epsrel=1e-13
    )

    def slopes(_: float, state: np.ndarray) -> list[complex]:
        w = 1 - e2 * np.sin(state[0]) ** 2
        return [1j * np.cos(state[0]) * w / (1 - e2), 1j * a * np.cos(state[0]) / np.sqrt(w)]

    end = solve_ivp(slopes, (0, lon), [complex(lat), complex(arc)], method="DOP853", rtol=1e-13, atol=1e-9)
    return float(end.y[1, -1].imag), float(end.y[1, -1].real)


@pytest.mark.parametrize("lat", [0.0, 12.5, 46.0, 71.0, 84.0, -33.0])
@pytest.mark.parametrize("lon", [0.01, 3.0, 6.0, 20.0])
def test_meets_the_integrated_definition_to_a_micrometre(lat: float, lon: float) -> None:
    expected = integrated(WGS_84, math.radians(lat), math.radians(lon))
    x, y = PLAIN.forward(np.radians([lon]), np.radians([lat]))
    assert (x[0], y[0]) == pytest.approx(expected, abs=2e-6)


def test_meets_the_worked_example_of_its_method() -> None:
    """EPSG method 9807. Its final figures (577274.99, 69740.50) are 8 mm off its own steps, so the
    printed steps count: radius B, eta, xi and the arc Mo up to the origin.
    """
    airy, scale = Ellipsoid("Airy 1830", 6_377_563.396, 299.3249646), 0.9996012717
    grid = mercator(airy, math.radians(49), math.radians(-2), scale, 400_000.0, -100_000.0)
    radius, eta, xi, arc = 6_366_914.609, 0.0278542603, 0.8793956171, 5_429_228.602
    expected = 400_000 + scale * radius * eta, -100_000 + scale * (radius * xi - arc)
    x, y = grid.forward(np.radians([0.5]), np.radians([50.5]))
    assert (x[0], y[0]) == pytest.approx(expected, abs=0.001)
    lon, lat = grid.inverse(*np.array([expected]).T)
    assert np.degrees([lon[0], lat[0]]) == pytest.approx([0.5, 50.5], abs=1e-8)


@pytest.mark.parametrize("ellipsoid", [WGS_84, GRS_1980, Ellipsoid("sphere", 6_371_000.0, 0.0)])
def test_there_and_back_over_forty_degrees(ellipsoid: Ellipsoid) -> None:
    lon, lat = np.radians(np.meshgrid(np.linspace(-40, 40, 41), np.linspace(-89, 89, 41)))
    grid = mercator(ellipsoid, 0.0, 0.0, 0.9996, 500_000.0, 0.0)
    back = grid.inverse(*grid.forward(lon, lat))
    metres = np.hypot((back[0] - lon) * np.cos(lat), back[1] - lat) * ellipsoid.semi_major
    assert metres.max() < 1e-6


def test_outside_its_domain_there_is_no_answer() -> None:
    x, y = PLAIN.forward(np.radians([95.0, 0.0]), np.radians([0.0, 91.0]))
    assert np.isnan([x, y]).all()
    lon, lat = PLAIN.inverse(np.array([4e7, np.nan, np.inf]), np.array([0.0, 0.0, 0.0]))
    assert np.isnan([lon, lat]).all()


@pytest.mark.parametrize("code, zone", [(32626, 26), (32727, 27), (26910, 10), (25832, 32)])
def test_every_utm_zone_has_its_meridian_in_the_middle(code: int, zone: int) -> None:
    middle = np.radians([6.0 * zone - 183])
    x, y = by_code(code).from_geographic(middle, np.array([0.0]))
    assert x[0] == pytest.approx(500_000, abs=1e-6)
    assert y[0] == pytest.approx(10_000_000 if code == 32727 else 0, abs=1e-6)
