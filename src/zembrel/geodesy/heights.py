"""From the heights of one vertical CRS to those of another (ISO 19111).

Within one surface only unit and sense change. Between the ellipsoid and a surface it takes a grid of how far
they lie apart; between two surfaces the registry knows constant offsets (method 9616: IOGP Guidance Note
7-2, vertical offset).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from zembrel.geodesy.aid import Separation
from zembrel.geodesy.crs import VerticalCRS, label
from zembrel.geodesy.ellipsoid import Array
from zembrel.geodesy.registryfile import row
from zembrel.geodesy.units import value_in_base

_OFFSET_METHOD, _OFFSET = 9616, 8603


@dataclass(frozen=True)
class HeightChange:
    """How heights of `source` become those of `target`.

    separation: for the one of them that is not the ellipsoid's; offset: metres by which zero of the target
    lies lower, registered as `code`; known: False if nobody knows, and heights are taken over as they are.
    """

    source: VerticalCRS
    target: VerticalCRS
    separation: Separation | None = None
    offset: float = 0.0
    code: int | None = None
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
        return (up + self.offset) / self.target.unit.factor * (-1 if self.target.down else 1)

    @property
    def inverse(self) -> HeightChange:
        return replace(self, source=self.target, target=self.source, offset=-self.offset)

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
        if self.code is not None:
            return f"heights {ends} by EPSG:{self.code}, {self.offset:+g} m"
        if self.source.unit == self.target.unit and self.source.down == self.target.down:
            return ""
        start, end = (f"{crs.unit.name}{', down' * crs.down}" for crs in (self.source, self.target))
        return f"heights from {start} to {end}"


def height_change(
    source: VerticalCRS | None, target: VerticalCRS | None, separation: Separation | None = None
) -> HeightChange | None:
    """The change between what heights mean in two CRSs; None if one of them does not say."""
    if source is None or target is None:
        return None
    if same_surface(source, target):
        return HeightChange(source, target)
    if source.datum is None or target.datum is None:
        return HeightChange(source, target, separation, known=separation is not None)
    for one, other, sign in ((source, target, 1.0), (target, source, -1.0)):
        found = _registered_offset(one, other)
        if found is not None:
            code, offset = found
            return HeightChange(source, target, offset=sign * offset, code=code)
    return HeightChange(source, target, known=False)


def same_surface(one: VerticalCRS, other: VerticalCRS) -> bool:
    """Whether heights in both start from the same surface."""
    if one.datum is None or other.datum is None:
        return one.datum is other.datum
    if one.datum.code is not None and other.datum.code is not None:
        return one.datum.code == other.datum.code
    return one.datum.name.lower() == other.datum.name.lower()


def _registered_offset(source: VerticalCRS, target: VerticalCRS) -> tuple[int, float] | None:
    """Code and metres upwards of the constant offset between two vertical datums, the most accurate."""
    if source.datum is None or target.datum is None:
        return None
    found = row(
        """SELECT o.code, v.value, v.unit, a.orientation FROM operation o
        JOIN value v ON v.operation = o.code AND v.parameter = ?
        JOIN crs s ON s.code = o.source JOIN crs t ON t.code = o.target JOIN axis a ON a.cs = s.cs
        WHERE o.method = ? AND NOT o.deprecated AND s.datum = ? AND t.datum = ?
        ORDER BY o.accuracy IS NULL, o.accuracy, o.code DESC""",
        _OFFSET, _OFFSET_METHOD, source.datum.code, target.datum.code,
    )  # fmt: skip
    if found is None:
        return None
    sign = -1.0 if found["orientation"] == "down" else 1.0
    return found["code"], sign * value_in_base(found["value"], found["unit"])
