"""What the user gives to get from one datum to another: grid files and an epoch."""

from __future__ import annotations

from typing import NamedTuple, Protocol

from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.shiftgrid import ShiftGrid


class Separation(Protocol):
    """How far the surface of a vertical datum lies above the ellipsoid."""

    @property
    def name(self) -> str:
        """Of the file, for receipts."""
        ...

    def __call__(self, lon: Array, lat: Array) -> Array:
        """Metres at longitudes from Greenwich and latitudes in radians; NaN off the grid."""
        ...


class Aid(NamedTuple):
    """shift_grid: between two geodetic datums; separation: of the ellipsoid and the surface of heights;
    epoch: of the coordinates, as a decimal year."""

    shift_grid: ShiftGrid | None = None
    separation: Separation | None = None
    epoch: float | None = None
