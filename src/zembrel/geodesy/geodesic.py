"""Geodesics on an ellipsoid: where one leads, and the one between two points.

Source: T. Vincenty, "Direct and inverse solutions of geodesics on the ellipsoid with application of
nested equations", Survey Review 23 (1975), with the expansion parameter of his letter of 1976.
"""

from __future__ import annotations

import numpy as np

from zembrel.geodesy.angles import wrapped
from zembrel.geodesy.ellipsoid import Array, Ellipsoid

_STEPS = 200
_DONE = 1e-14


def _factors(ellipsoid: Ellipsoid, cosine_square: Array) -> tuple[Array, Array]:
    """A and B of the series, from the squared cosine of the azimuth at the equator."""
    second = ellipsoid.eccentricity**2 / (1 - ellipsoid.eccentricity**2)
    root = np.sqrt(1 + cosine_square * second)
    k = (root - 1) / (root + 1)
    return (1 + k * k / 4) / (1 - k), k * (1 - 3 * k * k / 8)


def _arc_correction(b: Array, sigma: Array, middle: Array) -> Array:
    square = middle * middle
    inner = np.cos(sigma) * (-1 + 2 * square) - b / 6 * middle * (-3 + 4 * np.sin(sigma) ** 2) * (
        -3 + 4 * square
    )
    correction: Array = b * np.sin(sigma) * (middle + b / 4 * inner)
    return correction


def destination(
    ellipsoid: Ellipsoid, lon: Array, lat: Array, azimuth: Array, metres: Array
) -> tuple[Array, Array]:
    """Longitude and latitude at the end of geodesics from (lon, lat); all angles in radians."""
    f = ellipsoid.flattening
    tangent = (1 - f) * np.tan(lat)
    cosine_u = 1 / np.sqrt(1 + tangent * tangent)
    sine_u = tangent * cosine_u
    first = np.arctan2(tangent, np.cos(azimuth))
    sine_alpha = cosine_u * np.sin(azimuth)
    square = 1 - sine_alpha**2
    a, b = _factors(ellipsoid, square)
    start = metres / (ellipsoid.semi_minor * a)
    sigma = np.array(start, float)
    moving = np.isfinite(sigma)
    for _ in range(_STEPS):
        middle = np.cos(2 * first + sigma)
        new = np.where(moving, start + _arc_correction(b, sigma, middle), sigma)
        moving &= np.abs(new - sigma) >= _DONE  # each point for itself: its neighbours must not matter
        sigma = new
        if not moving.any():
            break
    middle, sine, cosine = np.cos(2 * first + sigma), np.sin(sigma), np.cos(sigma)
    along = sine_u * sine - cosine_u * cosine * np.cos(azimuth)
    end_lat = np.arctan2(
        sine_u * cosine + cosine_u * sine * np.cos(azimuth), (1 - f) * np.hypot(sine_alpha, along)
    )
    turn = np.arctan2(sine * np.sin(azimuth), cosine_u * cosine - sine_u * sine * np.cos(azimuth))
    c = f / 16 * square * (4 + f * (4 - 3 * square))
    turn = turn - (1 - c) * f * sine_alpha * (
        sigma + c * sine * (middle + c * cosine * (-1 + 2 * middle * middle))
    )
    return lon + turn, end_lat


def between(
    ellipsoid: Ellipsoid, lon: Array, lat: Array, to_lon: Array, to_lat: Array
) -> tuple[Array, Array]:
    """Metres and azimuth at the start of the geodesic from (lon, lat) to (to_lon, to_lat).

    NaN for points so nearly opposite on the Earth that the iteration finds no geodesic.
    """
    f = ellipsoid.flattening
    u1, u2 = np.arctan((1 - f) * np.tan(lat)), np.arctan((1 - f) * np.tan(to_lat))
    s1, c1, s2, c2 = np.sin(u1), np.cos(u1), np.sin(u2), np.cos(u2)
    apart = wrapped(to_lon - lon)
    turn, moving = np.array(apart, float), np.isfinite(apart + lat + to_lat)
    with np.errstate(invalid="ignore", divide="ignore"):
        for _ in range(_STEPS):
            across, along = c2 * np.sin(turn), c1 * s2 - s1 * c2 * np.cos(turn)
            sine, cosine = np.hypot(across, along), s1 * s2 + c1 * c2 * np.cos(turn)
            sigma = np.arctan2(sine, cosine)
            sine_alpha = np.where(sine > 0, c1 * c2 * np.sin(turn) / np.where(sine > 0, sine, 1), 0.0)
            square = 1 - sine_alpha**2
            middle = np.where(square > 1e-15, cosine - 2 * s1 * s2 / np.where(square > 1e-15, square, 1), 0.0)
            c = f / 16 * square * (4 + f * (4 - 3 * square))
            new = apart + (1 - c) * f * sine_alpha * (
                sigma + c * sine * (middle + c * cosine * (-1 + 2 * middle * middle))
            )
            moved = np.where(moving, np.abs(new - turn), 0.0)
            turn = np.where(moving, new, turn)
            moving &= moved >= _DONE
            if not moving.any():
                break
        a, b = _factors(ellipsoid, square)
        metres = ellipsoid.semi_minor * a * (sigma - _arc_correction(b, sigma, middle))
        lost = (moving & (moved > 1e-10)) | (np.abs(turn) > np.pi + 1e-9)
    return np.where(lost, np.nan, metres), np.arctan2(across, along)
