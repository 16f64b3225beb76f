"""A plain projection, which knows its own origin alone, put where its parameters say."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.angles import wrapped
from zembrel.geodesy.ellipsoid import Array

CHUNK = 4096  # points at a time, so that the temporaries stay in the processor's cache
_EDGE = 1e-9  # radians by which the edge of the Earth may be missed


class Plain(Protocol):
    """Longitude from the origin and latitude to metres east and north of it, and back.

    What comes out for places that are not on the Earth does not matter; results may be overwritten.
    """

    def forward(self, away: Array, lat: Array) -> tuple[Array, Array]: ...
    def inverse(self, east: Array, north: Array) -> tuple[Array, Array]: ...


@dataclass(frozen=True)
class Placed:
    """`plain` about a meridian, with false coordinates; NaN where it does not answer and off the Earth.

    endless: eastings beyond the edge mean the next turn, as on cylinders.
    """

    plain: Plain
    lon_origin: float
    false_easting: float
    false_northing: float
    endless: bool = False

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        return _in_chunks(self._forward, lon, lat)

    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        return _in_chunks(self._inverse, x, y)

    def _forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        east, north = self.plain.forward(wrapped(lon - self.lon_origin), lat)
        inside = np.isfinite(east + north) & (np.abs(lat) <= math.pi / 2 + _EDGE)
        return _where(inside, self.false_easting + east, self.false_northing + north)

    def _inverse(self, x: Array, y: Array) -> tuple[Array, Array]:
        away, lat = self.plain.inverse(x - self.false_easting, y - self.false_northing)
        inside = (np.abs(lat) <= math.pi / 2 + _EDGE) & np.isfinite(away)
        if not self.endless:
            inside &= np.abs(away) <= math.pi + _EDGE
        return _where(inside, self.lon_origin + away, lat)


def _where(inside: npt.NDArray[np.bool_], one: Array, other: Array) -> tuple[Array, Array]:
    outside = ~inside
    one[outside] = other[outside] = np.nan
    return one, other


def _in_chunks(
    call: Callable[[Array, Array], tuple[Array, Array]], one: Array, other: Array
) -> tuple[Array, Array]:
    """`call` for so many points at a time; both results in the shape of the arguments."""
    one, other = np.broadcast_arrays(one, other)
    results = np.empty((2, one.size))
    flat = one.ravel(), other.ravel()
    with np.errstate(all="ignore"):
        for start in range(0, one.size, CHUNK):
            part = slice(start, start + CHUNK)
            results[:, part] = call(flat[0][part], flat[1][part])
    return results[0].reshape(one.shape), results[1].reshape(one.shape)
