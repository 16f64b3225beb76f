"""From the parts of a definition to a CRS: the registry's own where it is the same one."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import NamedTuple

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, Conversion, Datum, GeographicCRS, ProjectedCRS, UnresolvedCRS
from zembrel.geodesy.ellipsoid import Ellipsoid
from zembrel.geodesy.projections.methods import METHODS, WINKEL_TRIPEL
from zembrel.geodesy.registry import by_code, conversion, datum
from zembrel.geodesy.registryfile import row, rows
from zembrel.geodesy.text import names
from zembrel.geodesy.units import Unit

_ALIKE = 1e-9  # relative, of sizes of ellipsoids
_CLOSE_ANGLE, _CLOSE_LENGTH = 1e-9, 1e-4  # radians and metres, of parameters


class GivenParameters(NamedTuple):
    """A parameter as a text gives it: name, EPSG code if it says, value in radians, metres or ones."""

    name: str
    code: int | None
    value: float


def geographic(name: str, own: Datum, unit: Unit, code: int | None) -> GeographicCRS:
    """The CRS of a datum as defined; the registered one of `code` or of the name if it is the same."""
    known = recognised_datum(own)
    made = GeographicCRS(name, known, unit, code)
    for candidate in _candidates(name, code, known):
        if isinstance(candidate, GeographicCRS) and _same_geographic(candidate, made):
            return replace(candidate, vertical=None)
    return GeographicCRS(name, known, unit)


def projected(name: str, base: GeographicCRS, made: Conversion, unit: Unit, code: int | None) -> ProjectedCRS:
    """The CRS of a conversion as defined; the registered one if there is the same."""
    crs = ProjectedCRS(name, base, made, unit)
    for candidate in _candidates(name, code, None):
        if isinstance(candidate, ProjectedCRS) and _same_projected(candidate, crs):
            return candidate
    alike = [c for c in map(by_code, _of_conversion(made)) if isinstance(c, ProjectedCRS)]
    alike = [candidate for candidate in alike if _same_projected(candidate, crs)]
    titled = (c for c in alike if names.prj_title(c.name, c.base.name, c.datum.code) == name)
    return next(titled, alike[0] if alike else crs)


def _candidates(name: str, code: int | None, own: Datum | None) -> Iterator[CRS]:
    """Registered CRSs that may be meant: that of the code, those of the name, those of the datum."""
    if code and row("SELECT 1 FROM crs WHERE code = ?", code):
        yield by_code(code)
    order = "ORDER BY deprecated, kind <> 'geographic 2D', code"
    for word in (name, name.replace("_", " ")):
        for r in rows(f"SELECT code FROM crs WHERE name = ? COLLATE NOCASE {order}", word):
            yield by_code(r["code"])
    if own is not None and own.code is not None:
        for r in rows(f"SELECT code FROM crs WHERE datum = ? AND kind = 'geographic 2D' {order}", own.code):
            yield by_code(r["code"])


def _same_geographic(one: GeographicCRS, other: GeographicCRS) -> bool:
    same_unit = one.unit.kind == other.unit.kind and math.isclose(
        one.unit.factor, other.unit.factor, rel_tol=1e-9
    )
    return one.datum.code == other.datum.code is not None and same_unit


def _same_projected(one: ProjectedCRS, other: ProjectedCRS) -> bool:
    return (
        one.datum.code == other.datum.code is not None
        and math.isclose(one.unit.factor, other.unit.factor, rel_tol=1e-9)
        and same_conversion(one.conversion, other.conversion)
    )


def same_conversion(one: Conversion, other: Conversion) -> bool:
    """Whether both project alike, to the rounding of texts."""
    if one.method != other.method:
        return False
    mine, theirs = _in_order(one.parameters), _in_order(other.parameters)
    return set(mine) == set(theirs) and all(
        abs(value - theirs[code]) <= (_CLOSE_LENGTH if abs(value) > 10 else _CLOSE_ANGLE)
        for code, value in mine.items()
    )


def _in_order(parameters: tuple[tuple[int, float], ...]) -> dict[int, float]:
    """Two standard parallels, 8823 and 8824, mean the same in either order."""
    values = dict(parameters)
    if 8823 in values and 8824 in values:
        values[8823], values[8824] = sorted((values[8823], values[8824]))
    return values


@lru_cache(maxsize=64)
def _conversions(method: int) -> tuple[Conversion, ...]:
    query = "SELECT code FROM operation WHERE kind = 'conversion' AND method = ? ORDER BY deprecated, code"
    return tuple(conversion(r["code"]) for r in rows(query, method))


def _of_conversion(made: Conversion) -> Iterator[int]:
    """CRSs of registered conversions that project like `made`."""
    codes = [c.code for c in _conversions(made.method) if same_conversion(c, made)]
    marks = ",".join("?" * len(codes))
    query = f"SELECT code FROM crs WHERE conversion IN ({marks}) ORDER BY deprecated, code"
    yield from (r["code"] for r in rows(query, *codes))


def recognised_datum(own: Datum) -> Datum:
    """The registered datum of a code, name or alias of `own`, if its figure and meridian are the same."""
    codes = [own.code] if own.code else []
    codes += [code for code, usual in names.PRJ_DATUMS.items() if own.name == f"D_{usual.geographic}"]
    for word in _spellings(own.name):
        codes += [r["code"] for r in rows("SELECT code FROM datum WHERE name = ? COLLATE NOCASE", word)]
        alias = "SELECT code FROM alias WHERE kind = 'datum' AND name = ? COLLATE NOCASE"
        codes += [r["code"] for r in rows(alias, word)]
    for key in _keys(own.name):
        codes += _by_plain_name().get(key, [])
    for code in dict.fromkeys(codes):
        try:
            known = datum(code)
        except InputError:
            continue
        if _same_figure(known, own):
            return known
    return own


def _keys(name: str) -> list[str]:
    """Under what a name may be found, the year in four or two digits: `D_WGS_1984` under `wgs84`."""
    key = names.plain(re.sub(r"^D_", "", name)).removesuffix("ensemble")
    return [key, re.sub(r"19(\d\d)$", r"\1", key), key.replace("datum", "")]


def _spellings(name: str) -> list[str]:
    bare = re.sub(r"^D_", "", name)
    return list(dict.fromkeys([name, bare, bare.replace("_", " "), f"{bare.replace('_', ' ')} ensemble"]))


@lru_cache(maxsize=1)
def _by_plain_name() -> dict[str, list[int]]:
    """Codes of geodetic datums by the letters and digits of their names and aliases."""
    found: dict[str, list[int]] = {}
    listed = rows("SELECT name, code FROM datum WHERE kind NOT IN ('vertical', 'engineering')")
    listed += rows("SELECT a.name, a.code FROM alias a WHERE a.kind = 'datum'")
    for r in listed:
        key = names.plain(r["name"]).removesuffix("ensemble")
        for spelling in dict.fromkeys([key, key.replace("datum", "")]):
            found.setdefault(spelling, []).append(r["code"])
    return found


def _same_figure(known: Datum, own: Datum) -> bool:
    a, b = known.ellipsoid, own.ellipsoid
    flat = math.isclose(a.inverse_flattening, b.inverse_flattening, rel_tol=2e-9)
    same = math.isclose(a.semi_major, b.semi_major, rel_tol=_ALIKE) and flat
    return same and abs(known.prime_meridian - own.prime_meridian) < 1e-6


def assembled(
    name: str, method_name: str, method_code: int | None, given: Sequence[GivenParameters]
) -> Conversion | None:
    """The conversion of a method and its parameters; None if the method is not known.

    Raises InputError for a parameter that the method does not have, or that is missing.
    """
    known = [method_code] if method_code in METHODS else names.methods_of(method_name)
    candidates = [code for code in known if code in METHODS]
    trouble: InputError | None = None
    for method in candidates:
        try:
            return Conversion(name, method, _parameters(method, given))
        except InputError as exc:
            trouble = trouble or exc
    if trouble is not None:
        raise trouble
    return None


def _parameters(method: int, given: Sequence[GivenParameters]) -> tuple[tuple[int, float], ...]:
    values: dict[int, float] = {}
    for parameter in given:
        code = (
            parameter.code
            if parameter.code in names.parameters_of(method)
            else names.parameter_of(parameter.name, method)
        )
        if code is None or (code == -1 and parameter.value in (0.0, 1.0)):
            continue
        if code == -1:
            raise InputError(
                f"{names.method_name(method)} has no parameter {parameter.name!r}",
                "a parameter that is not heeded would move the map",
                "it has " + ", ".join(names.parameter_name(c) for c in names.parameters_of(method)),
            )
        if not math.isfinite(parameter.value):
            raise InputError(
                f"{parameter.name!r} is {parameter.value}", "it has to be a number", "correct the text"
            )
        values[code] = parameter.value
    for code in names.parameters_of(method):
        if code not in values:
            if code in (8806, 8807, 8816, 8817, 8826, 8827, 8801):
                values[code] = 0.0
            elif code in (8805, 8815, 8819, 1038):
                values[code] = 1.0
            elif method == WINKEL_TRIPEL:
                values[code] = math.acos(2 / math.pi)
            else:
                raise InputError(
                    f"{names.method_name(method)} lacks {names.parameter_name(code)}",
                    "its coordinates cannot be computed",
                    "complete the text, or give EPSG:code instead",
                )
    return tuple(sorted(values.items()))


def unresolved(name: str, unit: Unit) -> UnresolvedCRS:
    """What a text names but nobody can compute with."""
    return UnresolvedCRS(name, unit)


def figure(name: str, semi_major: float, inverse_flattening: float, code: int | None = None) -> Ellipsoid:
    """An ellipsoid as a text gives it."""
    flat_enough = inverse_flattening == 0 or 1 < inverse_flattening < math.inf
    if not (0 < semi_major < math.inf and flat_enough):
        raise InputError(
            f"ellipsoid {name!r} of {semi_major:g} m and 1/{inverse_flattening:g}",
            "it is no figure of the Earth",
            "correct the text",
        )
    return Ellipsoid(name, semi_major, inverse_flattening, code)
