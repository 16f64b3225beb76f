"""Auxiliary latitudes of an ellipsoid: isometric, rectifying and authalic, and the way back from each.

Source: C. F. F. Karney, "On auxiliary latitudes", Survey Review 56 (2024), section 3 and the tables of
its appendix (series to sixth order in the third flattening n: exact to some nanometres on the Earth).
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from zembrel.geodesy.angles import double_angle
from zembrel.geodesy.ellipsoid import Array, Ellipsoid

Coefficients = tuple[float, ...]
# Row j - 1 holds the factors of n^j ... n^6 of the j-th coefficient.
_CONFORMAL = (
    (-2, 2 / 3, 4 / 3, -82 / 45, 32 / 45, 4642 / 4725),
    (5 / 3, -16 / 15, -13 / 9, 904 / 315, -1522 / 945),
    (-26 / 15, 34 / 21, 8 / 5, -12686 / 2835),
    (1237 / 630, -12 / 5, -24832 / 14175),
    (-734 / 315, 109598 / 31185),
    (444337 / 155925,),
)
_FROM_CONFORMAL = (
    (2, -2 / 3, -2, 116 / 45, 26 / 45, -2854 / 675),
    (7 / 3, -8 / 5, -227 / 45, 2704 / 315, 2323 / 945),
    (56 / 15, -136 / 35, -1262 / 105, 73814 / 2835),
    (4279 / 630, -332 / 35, -399572 / 14175),
    (4174 / 315, -144838 / 6237),
    (601676 / 22275,),
)
_RECTIFYING = (
    (-3 / 2, 0, 9 / 16, 0, -3 / 32, 0),
    (15 / 16, 0, -15 / 32, 0, 135 / 2048),
    (-35 / 48, 0, 105 / 256, 0),
    (315 / 512, 0, -189 / 512),
    (-693 / 1280, 0),
    (1001 / 2048,),
)
_FROM_RECTIFYING = (
    (3 / 2, 0, -27 / 32, 0, 269 / 512, 0),
    (21 / 16, 0, -55 / 32, 0, 6759 / 4096),
    (151 / 96, 0, -417 / 128, 0),
    (1097 / 512, 0, -15543 / 2560),
    (8011 / 2560, 0),
    (293393 / 61440,),
)
_FROM_AUTHALIC = (
    (4 / 3, 4 / 45, -16 / 35, -2582 / 14175, 60136 / 467775, 28112932 / 212837625),
    (46 / 45, 152 / 945, -11966 / 14175, -21016 / 51975, 251310128 / 638512875),
    (3044 / 2835, 3802 / 14175, -94388 / 66825, -8797648 / 10945935),
    (6059 / 4725, 41072 / 93555, -1472637812 / 638512875),
    (768272 / 467775, 455935736 / 638512875),
    (4210684958 / 1915538625,),
)


def coefficients(rows: tuple[Coefficients, ...], n: float) -> Coefficients:
    """The coefficients c_j for a third flattening `n`, from rows of factors of n^j and up."""
    return tuple(sum(c * n**p for p, c in enumerate(row, order)) for order, row in enumerate(rows, 1))


def sine_sum(c: Coefficients, sine: Array, cosine: Array) -> Array:
    """Sum of c_j sin(2 j x), given sin 2x and cos 2x, by Clenshaw's recurrence."""
    twice = 2 * cosine
    later, last = twice * c[-1] + c[-2], np.full_like(sine, c[-1])
    for term in c[-3::-1]:
        last *= -1
        last += twice * later
        last += term
        later, last = last, later
    return later * sine


@lru_cache(maxsize=256)
def _series(rows: tuple[Coefficients, ...], n: float) -> Coefficients:
    return coefficients(rows, n)


def _corrected(rows: tuple[Coefficients, ...], ellipsoid: Ellipsoid, lat: Array) -> Array:
    if ellipsoid.flattening == 0:
        return lat
    return lat + sine_sum(_series(rows, ellipsoid.third_flattening), *double_angle(np.tan(lat)))


def conformal(ellipsoid: Ellipsoid, lat: Array) -> Array:
    """Conformal latitude, radians."""
    return _corrected(_CONFORMAL, ellipsoid, lat)


def from_conformal(ellipsoid: Ellipsoid, tangent: Array) -> Array:
    """Geodetic latitude from the tangent of the conformal one."""
    if ellipsoid.flattening == 0:
        return np.arctan(tangent)
    c = _series(_FROM_CONFORMAL, ellipsoid.third_flattening)
    with np.errstate(invalid="ignore", over="ignore"):
        sine, cosine = double_angle(tangent)
    steep = ~np.isfinite(cosine)
    sine, cosine = np.where(steep, 0.0, sine), np.where(steep, -1.0, cosine)
    return np.arctan(tangent) + sine_sum(c, sine, cosine)


def isometric(ellipsoid: Ellipsoid, lat: Array) -> Array:
    """Isometric latitude: infinite at the poles."""
    e = ellipsoid.eccentricity
    return np.arcsinh(np.tan(lat)) - e * np.arctanh(e * np.sin(lat))


def from_isometric(ellipsoid: Ellipsoid, psi: Array) -> Array:
    """Geodetic latitude from the isometric one."""
    with np.errstate(over="ignore"):
        return from_conformal(ellipsoid, np.sinh(psi))


def rectifying_radius(ellipsoid: Ellipsoid) -> float:
    """Radius of the sphere with meridians as long as the ellipsoid's, metres."""
    n = ellipsoid.third_flattening
    return ellipsoid.semi_major / (1 + n) * (1 + n**2 / 4 + n**4 / 64 + n**6 / 256)


def meridian_arc(ellipsoid: Ellipsoid, lat: Array) -> Array:
    """Length of the meridian from the equator to `lat`, metres."""
    return rectifying_radius(ellipsoid) * _corrected(_RECTIFYING, ellipsoid, lat)


def from_meridian_arc(ellipsoid: Ellipsoid, metres: Array) -> Array:
    """Geodetic latitude at the end of a meridian arc from the equator."""
    return _corrected(_FROM_RECTIFYING, ellipsoid, metres / rectifying_radius(ellipsoid))


def authalic_q(ellipsoid: Ellipsoid, sine: Array) -> Array:
    """q of Snyder's "Map projections: a working manual" (1987), equation 3-12, for a sine of latitude."""
    e = ellipsoid.eccentricity
    if e == 0:
        return 2 * sine
    return (1 - e * e) * (sine / (1 - (e * sine) ** 2) + np.arctanh(e * sine) / e)


def pole_q(ellipsoid: Ellipsoid) -> float:
    """q at the pole."""
    return float(authalic_q(ellipsoid, np.ones(1))[0])


def authalic_radius(ellipsoid: Ellipsoid) -> float:
    """Radius of the sphere of the ellipsoid's surface, metres."""
    return ellipsoid.semi_major * math.sqrt(pole_q(ellipsoid) / 2)


def sine_of_authalic(ellipsoid: Ellipsoid, lat: Array) -> Array:
    """Sine of the authalic latitude."""
    return np.clip(authalic_q(ellipsoid, np.sin(lat)) / pole_q(ellipsoid), -1, 1)


def from_authalic(ellipsoid: Ellipsoid, beta: Array) -> Array:
    """Geodetic latitude from the authalic one, radians."""
    return _corrected(_FROM_AUTHALIC, ellipsoid, beta)
