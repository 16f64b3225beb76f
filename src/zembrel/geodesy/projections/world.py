"""Maps of the whole world that have names but no EPSG code, on a sphere of the semi-major axis:
Mollweide, Robinson and Winkel tripel. Sinusoidal, on the ellipsoid, is among the `arcs`.

Source: J. P. Snyder and P. M. Voxland, "An album of map projections" (1989), pages 54, 66, 82 and 222 ff.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.projections.solve import inverted, wrapped

Parameters = Mapping[int, float]
SINUSOIDAL, MOLLWEIDE, ROBINSON, WINKEL_TRIPEL = -1, -2, -3, -4  # in place of EPSG codes
NAMES = {
    SINUSOIDAL: "Sinusoidal", MOLLWEIDE: "Mollweide", ROBINSON: "Robinson", WINKEL_TRIPEL: "Winkel Tripel",
}  # fmt: skip
_USUAL = (8802, 8806, 8807)
PARAMETERS = {SINUSOIDAL: _USUAL, MOLLWEIDE: _USUAL, ROBINSON: _USUAL, WINKEL_TRIPEL: (*_USUAL, 8823)}
_EDGE = 1e-9  # radians by which the edge of the world may be missed


@dataclass(frozen=True)
class Mollweide:
    """Equal-area; the world is an ellipse."""

    radius: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore"):
            lat = np.where(np.abs(lat) <= math.pi / 2 + _EDGE, lat, np.nan)
            angle = np.sign(lat) * (math.pi - _opening(lat)) / 2
        x = self.radius * 2 * math.sqrt(2) / math.pi * wrapped(lon - self.lon_origin) * np.cos(angle)
        y = self.radius * math.sqrt(2) * np.sin(angle)
        return self.false_easting + x, self.false_northing + y

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore", divide="ignore"):
            angle = np.arcsin((y - self.false_northing) / (self.radius * math.sqrt(2)))
            lat = np.arcsin(np.clip((2 * angle + np.sin(2 * angle)) / math.pi, -1, 1))
            wide = 2 * math.sqrt(2) * self.radius / math.pi * np.cos(angle)
            away = np.where(wide > 1e-6, (x - self.false_easting) / wide, 0.0)
            inside = np.isfinite(angle) & (np.abs(away) <= math.pi + _EDGE)
        return np.where(inside, self.lon_origin + away, np.nan), np.where(inside, lat, np.nan)


def _opening(lat: Array) -> Array:
    """psi between 0 and pi with psi - sin psi = pi (1 - sin |lat|), by Newton's method."""
    goal = 2 * math.pi * np.sin((math.pi / 2 - np.abs(lat)) / 2) ** 2
    cube = np.cbrt(6 * goal)
    psi = np.minimum(cube * (1 + cube * cube / 60), math.pi)
    near = goal < 1e-6  # the first terms are exact there, where the difference would cancel
    for _ in range(8):
        slope = np.where(near, 1.0, 1 - np.cos(psi))
        psi = np.where(near, psi, psi - (psi - np.sin(psi) - goal) / slope)
    return psi


# Every 5 degrees from the equator: length of the parallel, and distance from the equator.
_LENGTHS = (
    1.0, 0.9986, 0.9954, 0.9900, 0.9822, 0.9730, 0.9600, 0.9427, 0.9216, 0.8962, 0.8679, 0.8350, 0.7986,
    0.7597, 0.7186, 0.6732, 0.6213, 0.5722, 0.5322,
)  # fmt: skip
_HEIGHTS = (
    0.0, 0.0620, 0.1240, 0.1860, 0.2480, 0.3100, 0.3720, 0.4340, 0.4958, 0.5571, 0.6176, 0.6769, 0.7346,
    0.7903, 0.8435, 0.8936, 0.9394, 0.9761, 1.0,
)  # fmt: skip
_STEP = math.radians(5)
_WIDTH, _HEIGHT = 0.8487, 1.3523


def _cubics(values: tuple[float, ...], before: float) -> Array:
    """Hermite cubics between table values, (4, 18), rising powers of the part of a step; `before` is the
    value one step south of the equator."""
    v = np.array(values)
    padded = np.concatenate([[before], v, [3 * v[-1] - 3 * v[-2] + v[-3]]])
    slope = (padded[2:] - padded[:-2]) / 2
    a, b, start, end = v[:-1], v[1:], slope[:-1], slope[1:]
    return np.array([a, start, 3 * (b - a) - 2 * start - end, 2 * (a - b) + start + end])


_LENGTH_CUBICS, _HEIGHT_CUBICS = _cubics(_LENGTHS, 0.9986), _cubics(_HEIGHTS, -0.0620)


def _value(cubics: Array, step: npt.NDArray[np.intp], part: Array) -> Array:
    c = cubics[:, step]
    return np.asarray(((c[3] * part + c[2]) * part + c[1]) * part + c[0])


@dataclass(frozen=True)
class Robinson:
    """A table of parallels, joined by cubics; neither conformal nor equal-area."""

    radius: float
    lon_origin: float
    false_easting: float
    false_northing: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore"):
            inside = np.abs(lat) <= math.pi / 2 + _EDGE
            steps = np.where(inside, np.abs(lat), 0.0) / _STEP
        step = np.minimum(steps.astype(int), len(_HEIGHTS) - 2)
        x = _WIDTH * wrapped(lon - self.lon_origin) * _value(_LENGTH_CUBICS, step, steps - step)
        y = _HEIGHT * np.sign(lat) * _value(_HEIGHT_CUBICS, step, steps - step)
        return (
            np.where(inside, self.false_easting + self.radius * x, np.nan),
            np.where(inside, self.false_northing + self.radius * y, np.nan),
        )

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        up = (np.asarray(y, float) - self.false_northing) / (self.radius * _HEIGHT)
        with np.errstate(invalid="ignore"):
            inside = np.abs(up) <= 1 + _EDGE
            goal = np.where(inside, np.abs(up), 0.0)
            step = np.clip(np.searchsorted(_HEIGHTS, goal, "right") - 1, 0, len(_HEIGHTS) - 2)
            part = np.full(goal.shape, 0.5)
            c = _HEIGHT_CUBICS[:, step]
            for _ in range(8):
                slope = (3 * c[3] * part + 2 * c[2]) * part + c[1]
                part = part - (_value(_HEIGHT_CUBICS, step, part) - goal) / slope
            length = self.radius * _WIDTH * _value(_LENGTH_CUBICS, step, part)
            away = (x - self.false_easting) / length
            inside &= np.abs(away) <= math.pi + _EDGE
        lat = np.sign(up) * (step + part) * _STEP
        return np.where(inside, self.lon_origin + away, np.nan), np.where(inside, lat, np.nan)


@dataclass(frozen=True)
class WinkelTripel:
    """The mean of an equidistant cylindrical map, true at `parallel`, and Aitoff's."""

    radius: float
    lon_origin: float
    false_easting: float
    false_northing: float
    parallel: float

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore", divide="ignore"):
            lat = np.where(np.abs(lat) <= math.pi / 2 + _EDGE, lat, np.nan)
            away = wrapped(lon - self.lon_origin)
            apart = np.arccos(np.clip(np.cos(lat) * np.cos(away / 2), -1, 1))
            stretch = np.where(apart > 1e-8, apart / np.sin(apart), 1.0)
            x = (away * math.cos(self.parallel) + 2 * np.cos(lat) * np.sin(away / 2) * stretch) / 2
            y = (lat + np.sin(lat) * stretch) / 2
        return self.false_easting + self.radius * x, self.false_northing + self.radius * y

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        lat = np.clip((y - self.false_northing) / self.radius, -1.5, 1.5)
        away = (x - self.false_easting) / (self.radius * (math.cos(self.parallel) + np.cos(lat)) / 2)
        return inverted(self.forward, x, y, self.lon_origin + np.clip(away, -3.1, 3.1), lat)


def mollweide(ellipsoid: Ellipsoid, p: Parameters) -> Mollweide:
    return Mollweide(ellipsoid.semi_major, p[8802], p[8806], p[8807])


def robinson(ellipsoid: Ellipsoid, p: Parameters) -> Robinson:
    return Robinson(ellipsoid.semi_major, p[8802], p[8806], p[8807])


def winkel_tripel(ellipsoid: Ellipsoid, p: Parameters) -> WinkelTripel:
    return WinkelTripel(ellipsoid.semi_major, p[8802], p[8806], p[8807], p[8823])
