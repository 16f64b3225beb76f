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
from zembrel.geodesy.projections.placed import Placed
from zembrel.geodesy.projections.solve import inverted

Parameters = Mapping[int, float]
_EDGE = 1e-9  # by which the height of a pole may be missed


@dataclass(frozen=True)
class Mollweide:
    """Equal-area; the world is an ellipse."""

    radius: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        angle = np.sign(lat) * (math.pi - _opening(lat)) / 2
        east = self.radius * 2 * math.sqrt(2) / math.pi * away * np.cos(angle)
        return east, self.radius * math.sqrt(2) * np.sin(angle)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        angle = np.arcsin(north / (self.radius * math.sqrt(2)))
        lat = np.arcsin(np.clip((2 * angle + np.sin(2 * angle)) / math.pi, -1, 1))
        wide = 2 * math.sqrt(2) * self.radius / math.pi * np.cos(angle)
        return np.where(wide > 1e-6, east / wide, 0.0), lat


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

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        steps = np.abs(lat) / _STEP
        step = np.clip(np.nan_to_num(steps).astype(int), 0, len(_HEIGHTS) - 2)
        east = self.radius * _WIDTH * away * _value(_LENGTH_CUBICS, step, steps - step)
        return east, self.radius * _HEIGHT * np.sign(lat) * _value(_HEIGHT_CUBICS, step, steps - step)

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        up = north / (self.radius * _HEIGHT)
        goal = np.where(np.abs(up) <= 1 + _EDGE, np.abs(up), np.nan)
        step = np.clip(np.searchsorted(_HEIGHTS, goal, "right") - 1, 0, len(_HEIGHTS) - 2)
        part = np.full(goal.shape, 0.5)
        c = _HEIGHT_CUBICS[:, step]
        for _ in range(8):
            slope = (3 * c[3] * part + 2 * c[2]) * part + c[1]
            part = part - (_value(_HEIGHT_CUBICS, step, part) - goal) / slope
        length = self.radius * _WIDTH * _value(_LENGTH_CUBICS, step, part)
        return east / length, np.sign(up) * (step + part) * _STEP


@dataclass(frozen=True)
class WinkelTripel:
    """The mean of an equidistant cylindrical map, true at `parallel`, and Aitoff's."""

    radius: float
    parallel: float

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]:
        apart = np.arccos(np.clip(np.cos(lat) * np.cos(away / 2), -1, 1))
        stretch = np.where(apart > 1e-8, apart / np.sin(apart), 1.0)
        east = (away * math.cos(self.parallel) + 2 * np.cos(lat) * np.sin(away / 2) * stretch) / 2
        return self.radius * east, self.radius * (lat + np.sin(lat) * stretch) / 2

    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]:
        lat = np.clip(north / self.radius, -1.5, 1.5)
        away = east / (self.radius * (math.cos(self.parallel) + np.cos(lat)) / 2)
        return inverted(self.forward, east, north, np.clip(away, -3.1, 3.1), lat)


def mollweide(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(Mollweide(ellipsoid.semi_major), p[8802], p[8806], p[8807])


def robinson(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(Robinson(ellipsoid.semi_major), p[8802], p[8806], p[8807])


def winkel_tripel(ellipsoid: Ellipsoid, p: Parameters) -> Placed:
    return Placed(WinkelTripel(ellipsoid.semi_major, p[8823]), p[8802], p[8806], p[8807])
