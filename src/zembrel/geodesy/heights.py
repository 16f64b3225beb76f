"""From the heights of one vertical CRS to those of another (ISO 19111).

Within one surface only unit and sense change. Between the ellipsoid and a surface it takes a grid of how far
they lie apart; between two surfaces the registry knows some offsets.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from zembrel.geodesy.aid import Separation
from zembrel.geodesy.crs import VerticalCRS, label
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.verticaloffset import VerticalOffset, vertical_offset
from zembrel.geodesy.ways import Place


@dataclass(frozen=True)
class HeightChange:
    """How heights of `source` become those of `target`.

    separation: for the one of them that is not the ellipsoid's; offset: between two surfaces; known: False
    if nobody knows, and heights are taken over as they are.
    """

    source: VerticalCRS
    target: VerticalCRS
    separation: Separation | None = None
    offset: VerticalOffset | None = None
    known: bool = True

    @property
    def ellipsoidal(self) -> bool:
        """Whether heights above the ellipsoid are known on the way, so that a datum shift changes them."""
        return self.known and (self.separation is not None or self.source.datum is self.target.datum is None)

    def above_ellipsoid(self, z: Array, lon: Array, lat: Array) -> Array:
        """Metres above the ellipsoid, or above the source's surface where only that is known."""
        up = z * self.source.unit.factor * (-1 if self.source.down else 1)
        if self.separation is not None and self.source.datum is not None:
            up = up + self.separation(lon, lat)
        return up

    def above_target(self, up: Array, lon: Array, lat: Array) -> Array:
        """In the unit and sense of the target, of what `above_ellipsoid` gave."""
        if self.separation is not None and self.target.datum is not None:
            up = up - self.separation(lon, lat)
        if self.offset is not None:
            up = up + self.offset(lon, lat)
        return up / self.target.unit.factor * (-1 if self.target.down else 1)

    @property
    def inverse(self) -> HeightChange:
        return replace(
            self, source=self.target, target=self.source, offset=self.offset.reversed if self.offset else None
        )

    def describe(self) -> str:
        """One phrase for the receipt; empty if nothing changes."""
        ends = f"from {label(self.source)} to {label(self.target)}"
        if not self.known:
            way = (
                ", which would need a --height-grid" if None in (self.source.datum, self.target.datum) else ""
            )
            return f"no way known {ends}{way}: heights taken as they are"
        if self.separation is not None:
            return f"heights {ends} by {self.separation.name}"
        if self.offset is not None:
            return f"heights {ends} by {self.offset.describe()}"
        if self.source.unit == self.target.unit and self.source.down == self.target.down:
            return ""
        start, end = (f"{crs.unit.name}{', down' * crs.down}" for crs in (self.source, self.target))
        return f"heights from {start} to {end}"


def height_change(
    source: VerticalCRS | None,
    target: VerticalCRS | None,
    separation: Separation | None = None,
    place: Place = None,
) -> HeightChange | None:
    """The change between what heights mean in two CRSs, best at `place` (longitude and latitude in degrees);
    None if one of them does not say."""
    if source is None or target is None:
        return None
    if same_surface(source, target):
        return HeightChange(source, target)
    if source.datum is None or target.datum is None:
        return HeightChange(source, target, separation, known=separation is not None)
    offset = vertical_offset(source, target, place)
    return HeightChange(source, target, offset=offset, known=offset is not None)


def same_surface(one: VerticalCRS, other: VerticalCRS) -> bool:
    """Whether heights in both start from the same surface."""
    if one.datum is None or other.datum is None:
        return one.datum is other.datum
    if one.datum.code is not None and other.datum.code is not None:
        return one.datum.code == other.datum.code
    return one.datum.name.lower() == other.datum.name.lower()
