"""Lengths, angles and byte sizes with their units, as people type them.

Factors are exact rationals: metres for lengths, degrees for angles. Sources: EPSG Dataset table
of units (9001, 9002, 9003, 9030, 9093, 9102, 9103, 9104), ISO 80000-3.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from datetime import date
from fractions import Fraction

from zembrel.errors import UsageError, nearest_name

LENGTHS: dict[str, Fraction] = {
    "m": Fraction(1),
    "km": Fraction(1000),
    "cm": Fraction(1, 100),
    "mm": Fraction(1, 1000),
    "ft": Fraction(3048, 10_000),
    "usft": Fraction(1200, 3937),
    "yd": Fraction(9144, 10_000),
    "mi": Fraction(1_609_344, 1000),
    "nmi": Fraction(1852),
}
ANGLES: dict[str, Fraction] = {
    "deg": Fraction(1),
    "arcmin": Fraction(1, 60),
    "arcsec": Fraction(1, 3600),
    "grad": Fraction(9, 10),
}
BYTES: dict[str, int] = {
    "B": 1,
    **{f"{p}B": 1000**n for n, p in enumerate("kMGT", 1)},
    **{f"{p}iB": 1024**n for n, p in enumerate("KMGT", 1)},
}
METRES_PER_DEGREE = 111_320  # along a meridian or the equator, to 1 %; only ever used for hints

_LEAST, _MOST = Fraction(1, 10**100), Fraction(10**100)  # of sizes of anything
_LONGEST = 2_000  # characters of a number
_QUANTITY = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*([A-Za-z]*)\s*")


def exact_number(text: str) -> Fraction:
    """The number of a text, exactly.

    Raises ValueError for what is none, and for one that no double comes near, which would fill the memory.
    """
    rough = float(text)
    nothing = rough == 0 and re.search(r"[1-9]", re.split("[eE]", text)[0]) is None
    if len(text) > _LONGEST or not math.isfinite(rough) or not (rough or nothing):
        raise ValueError(text)
    return Fraction(text)


@dataclass(frozen=True, slots=True)
class Length:
    """A size on the ground: `amount` of `unit`; an empty unit means that of the CRS."""

    amount: Fraction
    unit: str = ""

    @property
    def kind(self) -> str:
        """`length`, `angle`, or `any` for a bare number."""
        if not self.unit:
            return "any"
        return "length" if self.unit in LENGTHS else "angle"

    def in_unit(self, kind: str, factor: Fraction | float) -> float:
        """This size in a CRS unit of `kind` (length or angle) that is `factor` metres or degrees.

        Raises UsageError with the fitting value if this is a length and the unit an angle, or
        the other way round.
        """
        if self.kind == "any":
            return float(self.amount)
        if self.kind != kind:
            raise UsageError(
                f"{self} does not fit a CRS in {'degrees' if kind == 'angle' else 'metres or feet'}",
                f"the CRS measures {'angles' if kind == 'angle' else 'lengths'}, {self} is "
                f"{'an angle' if self.kind == 'angle' else 'a length'}",
                f"use {self._fitting(kind)}, or choose another CRS with --crs",
            )
        size = self.amount * (LENGTHS | ANGLES)[self.unit]
        exact = factor if isinstance(factor, Fraction) else _exact(kind, factor)
        return float(size / exact) if exact is not None else float(size) / factor

    def _fitting(self, kind: str) -> str:
        size = self.amount * (LENGTHS | ANGLES)[self.unit]
        if kind == "angle":
            return f"about {float(size / METRES_PER_DEGREE * 3600):.3g}arcsec"
        return f"about {float(size * METRES_PER_DEGREE):.3g}m"

    def __str__(self) -> str:
        return f"{float(self.amount):.12g}{self.unit}"


def _exact(kind: str, factor: float) -> Fraction | None:
    """The exact size of the unit that is `factor` metres or degrees, if it is one of ours."""
    units = LENGTHS if kind == "length" else ANGLES
    return next((size for size in units.values() if math.isclose(float(size), factor, rel_tol=1e-14)), None)


def parse_length(text: str) -> Length:
    """`2m`, `1usft`, `30arcsec` or a bare number as a Length.

    Raises UsageError for anything else, naming the near miss of an unknown unit.
    """
    found = _QUANTITY.fullmatch(text)
    if not found:
        raise UsageError(
            f"{text!r} is not a length", "a number and a unit are needed", "write for example 2m or 30arcsec"
        )
    amount, unit = _amount(found[1]), found[2]
    if unit and unit not in LENGTHS and unit not in ANGLES:
        raise UsageError(
            f"{text!r} has an unknown unit {unit!r}",
            "a size with a misread unit would be wrong by factors",
            nearest_name(unit, [*LENGTHS, *ANGLES]),
        )
    return Length(amount, unit)


def parse_cell(text: str) -> tuple[Length, Length]:
    """Cell size along x and y: `2m` or `2m/3m`. Raises UsageError unless both are positive."""
    along_x, _, along_y = text.partition("/")
    size = parse_length(along_x), parse_length(along_y or along_x)
    if min(size[0].amount, size[1].amount) <= 0:
        raise UsageError(
            f"cell size {text} is not positive", "a cell covers some ground", "write for example 2m"
        )
    return size


def parse_bytes(text: str) -> int:
    """`256MB`, `2GiB` or a bare number of bytes; GB is 10^9, GiB 2^30. Raises UsageError."""
    found = _QUANTITY.fullmatch(text)
    units = {unit.lower(): factor for unit, factor in BYTES.items()}
    unit = (found[2] or "B").lower() if found else ""
    if not found or unit not in units or _amount(found[1]) <= 0:
        raise UsageError(
            f"{text!r} is not a size in bytes",
            "a positive number and a unit are needed",
            "write for example 256MB or 2GiB",
        )
    return int(_amount(found[1]) * units[unit])


def _amount(text: str) -> Fraction:
    try:
        amount = exact_number(text)
    except ValueError:
        amount = _MOST + 1
    if amount and not _LEAST <= abs(amount) <= _MOST:
        what = f"{text[:40]} is the size of nothing"
        raise UsageError(what, "sizes lie between 1e-100 and 1e100", "write another number")
    return amount


_SECONDS = {"s": 1.0, "min": 60.0, "h": 3_600.0, "d": 86_400.0, "w": 604_800.0}


def parse_date(option: str, text: str | None) -> date | None:
    """Return the date that an option gives, None if it gives none. Raises UsageError."""
    try:
        return None if text is None else date.fromisoformat(text)
    except ValueError as exc:
        what, why = f"{option} {text}", "a year, a month and a day are needed"
        raise UsageError(what, why, f"write {option} 2027-01-31") from exc


def parse_duration(text: str) -> float:
    """Seconds in `30d`, `12h`, `20min` or `45s`. Raises UsageError."""
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([a-z]+)\s*", text)
    if found is None or found[2] not in _SECONDS:
        why = f"a number and one of {', '.join(_SECONDS)} are needed"
        raise UsageError(f"{text!r} is no length of time", why, "write for example 30d")
    return float(found[1]) * _SECONDS[found[2]]


def show_bytes(size: float) -> str:
    """`211 MB`: three significant digits, powers of ten."""
    for unit in ("B", "kB", "MB", "GB"):
        if size < 999.5:
            return f"{size:.3g} {unit}"
        size /= 1000
    return f"{size:,.3g} TB"


def show_number(value: float) -> str:
    """A number as short as exact reading back allows, with thousands marked when whole; NaN by that name."""
    if math.isnan(value):
        return "NaN"
    if float(value).is_integer() and abs(value) < 1e15:
        return f"{int(value):,}"
    return f"{value:.10g}"


def show_fixed(value: float, digits: int, sign: bool = False) -> str:
    """A number with so many digits after the point; what rounds to nothing has no minus."""
    shown = round(value, digits) + 0.0
    return f"{shown:{'+' if sign and shown else ''}.{digits}f}"
