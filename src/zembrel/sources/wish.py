"""What is wanted of a source, and what it gives for that."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import box_bounds
from zembrel.grid.frame import Frame
from zembrel.measure import Length
from zembrel.raster.model import Raster

Bounds = tuple[float, float, float, float]
WORLD: Bounds = (-180.0, -90.0, 180.0, 90.0)
MARGIN = 8  # cells around an area that kernels of resampling may look at


class Dates(NamedTuple):
    """The first and the last day, both included."""

    first: datetime.date
    last: datetime.date

    def holds(self, day: datetime.date | None) -> bool:
        return day is not None and self.first <= day <= self.last


@dataclass(frozen=True)
class Wish:
    """What is wanted.

    ground: west, south, east and north in degrees, or None for all there is; west > east across the
    antimeridian; frame: on which cells it shall land, if that is known; crs and cell: of the result, as far
    as that is known, along x and y; zoom: of tiles; dates and cloud (percent at most): of items; bands: their
    patterns; blocks_where: a condition on the entries of an index.
    """

    ground: Bounds | None = None
    frame: Frame | None = None
    crs: CRS | None = None
    cell: tuple[Length, Length] | None = None
    zoom: int | None = None
    dates: Dates | None = None
    cloud: float | None = None
    bands: str | None = None
    blocks_where: str | None = None
    most: int = 1_000  # items

    def bounds_in(self, crs: CRS, within: Sequence[float] | None) -> Bounds | None:
        """The bounds in a CRS of what is wanted of a source that covers `within`; None for all there is."""
        ground = self.ground
        if ground is None and within is None:
            return None
        own = (float(within[0]), float(within[1]), float(within[2]), float(within[3])) if within else WORLD
        return box_bounds(_meet(ground, own) if ground is not None else own, by_code(4326), crs)


def _meet(one: Bounds, other: Bounds) -> Bounds:
    """What two boxes of degrees share; the first where they share nothing."""
    if other[2] - other[0] >= 360:  # all around the Earth
        return one[0], max(one[1], other[1]), one[2], min(one[3], other[3])
    east, own = one[2] + 360 * (one[0] > one[2]), other[2] + 360 * (other[0] > other[2])
    for turn in (0, 360, -360):
        west, right = max(one[0], other[0] + turn), min(east, own + turn)
        south, north = max(one[1], other[1]), min(one[3], other[3])
        if west < right and south < north:
            return west, south, right, north
    return one


class SourceLayer(NamedTuple):
    """A raster of a source: what it is called there, and of items the day and the clouds in percent."""

    name: str
    raster: Raster
    day: datetime.date | None = None
    cloud: float | None = None


@dataclass(frozen=True)
class SourceLayers:
    """What a source has: layers, and words about what was chosen or left out."""

    layers: tuple[SourceLayer, ...]
    said: tuple[str, ...] = ()
    remarks: tuple[str, ...] = field(default=())


Open = Callable[..., SourceLayers]
