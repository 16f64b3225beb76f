"""Units of the registry, and its values in radians, metres and plain ratios."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

from zembrel.errors import InputError
from zembrel.geodesy import registryfile


@dataclass(frozen=True)
class Unit:
    """A unit: `factor` metres (kind `length`), degrees (`angle`), ones (`scale`) or years (`time`).

    Of a rate: so many a year.
    """

    name: str
    kind: str
    factor: float
    code: int


METRE = Unit("metre", "length", 1.0, 9001)
DEGREE = Unit("degree", "angle", 1.0, 9102)
UNITY = Unit("unity", "scale", 1.0, 9201)
# Angles whose factor the registry can give only to the 15 digits of its pi, in degrees.
_EXACT = {9101: math.degrees(1), 9102: 1.0, 9122: 1.0, 9103: 1 / 60, 9104: 1 / 3600, 9105: 0.9, 9106: 0.9}
_YEAR, _SECOND, _PER_SECOND = 31_556_925.445, 1040, (1026, 1035, 1036)
_SPELLINGS = {
    "meter": "metre",
    "m": "metre",
    "feet": "foot",
    "ft": "foot",
    "foot us": "US survey foot",
    "deg": "degree",
}
_SEXAGESIMAL_DMS, _SEXAGESIMAL_DM = (9107, 9108, 9110), (9111, 9115, 9116)


@lru_cache(maxsize=128)
def unit(code: int) -> Unit:
    """The unit of EPSG `code`; degrees are one, however they are meant to be written. Raises InputError."""
    if code == 9122:
        return DEGREE
    found = registryfile.registered("unit", code)
    if found["kind"] == "angle":
        factor = _EXACT.get(code) or math.degrees((found["b"] or 1.0) / (found["c"] or 1.0))
    else:
        factor = (found["b"] or 1.0) / (found["c"] or 1.0)
    if found["target"] == _SECOND:
        factor /= _YEAR
    elif found["target"] in _PER_SECOND:
        factor *= _YEAR
    return Unit(found["name"], found["kind"], factor, code)


def value_in_base(value: float, code: int | None) -> float:
    """A registered value in radians, metres or ones."""
    if code is None:
        return value
    if code in _SEXAGESIMAL_DMS or code in _SEXAGESIMAL_DM:
        return math.radians(sexagesimal(value, seconds=code in _SEXAGESIMAL_DMS))
    kind = unit(code)
    return math.radians(value * kind.factor) if kind.kind == "angle" else value * kind.factor


def sexagesimal(value: float, *, seconds: bool = True) -> float:
    """Degrees of D.MMSSsss (or D.MMmmm), taken from the decimal text: 24.5 is 24 degrees 50 minutes."""
    text = f"{abs(value):.12f}".rstrip("0")
    degrees, _, rest = text.partition(".")
    rest = rest.ljust(4, "0")
    minutes, tail = rest[:2], rest[2:]
    if seconds:
        size = float(degrees) + float(minutes) / 60 + float(f"{tail[:2]}.{tail[2:] or 0}") / 3600
    else:
        size = float(degrees) + float(f"{minutes}.{tail}") / 60
    return math.copysign(size, value)


def mismatch(name: str, due: str) -> InputError:
    """The error for a unit of another kind than is `due` (`length` or `angle`)."""
    article = {"angle": "an angle", "length": "a length"}[due]
    return InputError(
        f"unit {name!r} where {article} is due", "coordinates would be misread", "correct the text"
    )


def kind_of(name: str) -> str | None:
    """`length`, `angle` or whatever a unit of that name measures, by the registry; None if it knows none."""
    wanted = _SPELLINGS.get(name.lower().replace("_", " "), name.replace("_", " "))
    found = registryfile.row("SELECT kind FROM unit WHERE name = ? COLLATE NOCASE", wanted)
    return found["kind"] if found else None
