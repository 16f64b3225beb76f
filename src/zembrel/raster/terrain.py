"""What can be made of a surface: slope, aspect, light and the others, each a band."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, reduce
from typing import ClassVar, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.sun import Sun
from zembrel.grid.frame import Array
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.model import Band

Bytes = npt.NDArray[np.uint8]
ALL: Bytes = np.zeros((0, 0), np.uint8)
WAYS = {"degrees": ("deg", 0), "percent": ("%", 1), "ratio": ("", 2)}
BENDS = {"profile": 0, "plan": 1, "mean": 2}
_DISC = 0.2666  # degrees, half of the sun's
FARTHEST = 2_048  # cells that a shadow is followed


class Near(NamedTuple):
    """Heights around a strip of cells that begins `top` rows and `left` columns in, and what is made of them.

    heights: (rows, columns) floats; valid: bytes of the same shape, or (0, 0) for all; pane: of the strip;
    axes: (rows of the strip, 4), see `kernels.terrain`; metres: of a unit of the heights; tops: the highest
    of squares of heights, see `kernels.horizon`, (0, 0) where nothing casts; east, north, known: gradients of
    the strip.
    """

    heights: Array
    valid: Bytes
    top: int
    left: int
    pane: Pane
    axes: Array
    metres: float
    tops: Array
    east: Array
    north: Array
    known: Bytes


class Halo(NamedTuple):
    """Cells that are needed around others."""

    up: int = 0
    left: int = 0
    down: int = 0
    right: int = 0

    def joined(self, other: Halo) -> Halo:
        """What holds both."""
        return Halo(*map(max, self, other))


class Measure(ABC):
    """One band that is made of heights; picklable."""

    sloping: ClassVar[bool] = False  # whether it needs the gradients, and is unknown where they are

    @property
    @abstractmethod
    def band(self) -> Band: ...

    @property
    def halo(self) -> Halo:
        """The cells that it needs around each."""
        return Halo(1, 1, 1, 1)

    @property
    def casting(self) -> bool:
        """Whether it follows shadows."""
        return False

    @abstractmethod
    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        """Fill `out`, (rows, columns) of the strip; clear `ok` where nothing can be said."""


@dataclass(frozen=True)
class Slope(Measure):
    """The steepest rise, in one of WAYS."""

    way: str = "degrees"
    sloping = True

    @property
    def band(self) -> Band:
        return Band("slope", "float32", unit=WAYS[self.way][0])

    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        kernels.terrain.slopes(near.east, near.north, WAYS[self.way][1], out)


class NorthTurn(Protocol):
    """How far true north is turned from that of the grid, clockwise."""

    def degrees(self, pane: Pane) -> Array:
        """(rows, columns) of a pane."""
        ...


@dataclass(frozen=True)
class Aspect(Measure):
    """Where the surface faces, clockwise from grid north, or from true north by `turn`; flat: where it faces
    nowhere, NaN for no value."""

    flat: float = math.nan
    turn: NorthTurn | None = None
    sloping = True

    @property
    def band(self) -> Band:
        return Band("aspect", "float32", unit="deg")

    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        turn = np.zeros((0, 0)) if self.turn is None else self.turn.degrees(near.pane)
        kernels.terrain.aspects(near.east, near.north, turn, self.flat, out, ok)


class Ray(NamedTuple):
    """The way to a sun over cells: see `kernels.horizon`."""

    down: float
    across: float
    length: float
    steps: float

    @property
    def halo(self) -> Halo:
        """The cells that it may cross."""
        reach = [math.ceil(abs(part) * self.steps) + 1 for part in (self.down, self.across)]
        up, down = (reach[0], 1) if self.down < 0 else (1, reach[0])
        left, right = (reach[1], 1) if self.across < 0 else (1, reach[1])
        return Halo(up, left, down, right)


@dataclass(frozen=True)
class Hillshade(Measure):
    """Light on a matt surface, 0 to 255, the mean over `suns` (from grid north).

    rays: the ways to those that cast shadows, one for each sun, or none.
    """

    suns: tuple[Sun, ...]
    name: str = "hillshade"
    rays: tuple[Ray, ...] = ()
    sloping = True

    @property
    def band(self) -> Band:
        return Band(self.name, "uint8")

    @property
    def halo(self) -> Halo:
        return reduce(Halo.joined, (ray.halo for ray in self.rays), super().halo)

    @property
    def casting(self) -> bool:
        return bool(self.rays)

    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        lit = np.zeros((0, 0, 0))
        if self.rays:
            lit = np.ones((len(self.suns), *near.pane.shape))
            for sun, ray, share in zip(self.suns, self.rays, lit, strict=True):
                if sun.altitude > -_DISC:
                    around = near.heights, near.valid, near.top, near.left
                    kernels.horizon.sunlit(*around, near.tops, tuple(ray), disc(sun), share)
        kernels.terrain.shades(near.east, near.north, self._directions, lit, out)

    @cached_property
    def _directions(self) -> Array:
        return np.array([_direction(sun) for sun in self.suns])


def disc(sun: Sun) -> tuple[float, float]:
    """Tangents of the altitudes of the lower and the upper edge of the sun."""
    lower, upper = (math.tan(math.radians(min(sun.altitude + edge, 89.99))) for edge in (-_DISC, _DISC))
    return lower, upper


def _direction(sun: Sun) -> tuple[float, float, float]:
    """How far light comes from east, north and above; none at night."""
    if sun.altitude <= 0:
        return 0.0, 0.0, 0.0
    azimuth, altitude = math.radians(sun.azimuth), math.radians(sun.altitude)
    return math.cos(altitude) * math.sin(azimuth), math.cos(altitude) * math.cos(azimuth), math.sin(altitude)


@dataclass(frozen=True)
class Curvature(Measure):
    """How the surface bends, in one of BENDS: along the steepest way, along the level, or the mean of all."""

    what: str = "mean"
    unit: str = "m"

    @property
    def band(self) -> Band:
        return Band(f"curvature_{self.what}", "float32", unit=f"1/{self.unit}")

    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        around = near.heights, near.valid, near.top, near.left
        kernels.neighbours.curvatures(*around, near.axes, near.metres, BENDS[self.what], out)


UNEVEN = ("roughness", "ruggedness")  # by the number that the kernel knows them by


@dataclass(frozen=True)
class Unevenness(Measure):
    """Roughness or ruggedness of the 3 x 3 cells around each."""

    name: str = "roughness"
    unit: str = "m"

    @property
    def band(self) -> Band:
        return Band(self.name, "float32", unit=self.unit)

    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        what = UNEVEN.index(self.name)
        kernels.neighbours.unevenness(near.heights, near.valid, near.top, near.left, what, out)


@dataclass(frozen=True)
class Position(Measure):
    """Height above the mean within a reach of so many cells along x and y."""

    reach: tuple[float, float]
    unit: str = "m"

    @property
    def band(self) -> Band:
        return Band("position", "float32", unit=self.unit)

    @property
    def halo(self) -> Halo:
        across, along = (math.floor(cells) for cells in self.reach)
        return Halo(along, across, along, across)

    @cached_property
    def widths(self) -> npt.NDArray[np.int64]:
        """How many cells the reach goes to each side, in each of its rows."""
        across, along = self.reach
        rows = np.arange(-math.floor(along), math.floor(along) + 1)
        return np.floor(across * np.sqrt(1 - (rows / max(along, 1)) ** 2) + 1e-9).astype(np.int64)

    def fill(self, near: Near, out: Array, ok: Bytes) -> None:
        reach = self.halo.up
        first, last = max(0, near.top - reach), near.top + near.pane.rows + reach
        heights, valid = near.heights[first:last], near.valid[first:last]
        kernels.neighbours.positions(heights, valid, near.top - first, near.left, self.widths, out)


def joined_halo(measures: Sequence[Measure]) -> Halo:
    """The cells that all of them need."""
    return reduce(Halo.joined, (measure.halo for measure in measures), Halo())


def bands_of(measures: Sequence[Measure]) -> tuple[Band, ...]:
    """Their bands, of one type: bytes where all are light, else floats."""
    bands = [measure.band for measure in measures]
    if all(band.type == "uint8" for band in bands):
        return tuple(bands)
    return tuple(Band(band.name, "float32", unit=band.unit) for band in bands)
