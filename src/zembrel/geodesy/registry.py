"""CRSs of the registry, by code, name and area.

Codes, names and values are those of the EPSG Geodetic Parameter Dataset, owned by IOGP.
"""

from __future__ import annotations

import difflib
import math
import sqlite3
from functools import lru_cache
from typing import NamedTuple

from zembrel.errors import InputError, nearest_name
from zembrel.geodesy.crs import (
    CRS,
    ELLIPSOIDAL,
    Conversion,
    Datum,
    GeographicCRS,
    ProjectedCRS,
    UnresolvedCRS,
    VerticalCRS,
    VerticalDatum,
    vertical_of,
    with_vertical,
)
from zembrel.geodesy.ellipsoid import Ellipsoid
from zembrel.geodesy.registryfile import registered, row, rows
from zembrel.geodesy.units import METRE, Unit, unit, value_in_base


class CRSEntry(NamedTuple):
    """What the registry says of a CRS besides its definition; bounds: west, south, east, north in degrees."""

    code: int
    name: str
    kind: str
    area: str
    bounds: tuple[float, float, float, float]
    deprecated: bool
    replaced_by: int | None


@lru_cache(maxsize=1024)
def by_code(code: int) -> CRS:
    """The CRS of EPSG `code`, deprecated ones too. Raises InputError, with near misses, if there is none.

    A compound or three-dimensional CRS is its horizontal part that knows what heights mean. Other kinds
    without x and y come back unresolved, with their name.
    """
    found = row("SELECT * FROM crs WHERE code = ?", code)
    if found is None:
        names = {str(held["code"]): held["name"] for held in rows("SELECT code, name FROM crs")}
        near = [str(n) for n in (code - 1, code + 1, code - 2, code + 2) if str(n) in names]
        near = list(dict.fromkeys([*near, *difflib.get_close_matches(str(code)[:12], names, 3, _LIKE)]))[:3]
        raise InputError(
            f"EPSG:{code} is not a CRS of the registry",
            "neither its current nor its withdrawn entries have that code",
            "near are " + ", ".join(f"EPSG:{held} {names[held]}" for held in near)
            if near
            else "look it up with zembrel crs find TEXT",
        )
    kind = found["kind"]
    if kind == "geographic 3D":
        flat = row("SELECT code FROM crs WHERE base = ? AND kind = 'geographic 2D' ORDER BY deprecated", code)
        return with_vertical(by_code(flat["code"]) if flat else _geographic(found), ELLIPSOIDAL)
    if kind == "geographic 2D":
        return _geographic(found)
    if kind == "projected":
        return _projected(found)
    if kind == "compound":
        return with_vertical(by_code(found["horizontal"]), vertical_of(by_code(found["vertical"])))
    if kind == "vertical":
        return _vertical(found)
    return UnresolvedCRS(found["name"], METRE, code)


def _vertical(found: sqlite3.Row) -> VerticalCRS:
    code = _datum_of(found)
    named = row("SELECT name FROM datum WHERE code = ?", code)
    assert named is not None
    orientation, own = _axes(found["cs"])[0]
    datum = VerticalDatum(named["name"], code)
    return VerticalCRS(found["name"], own, found["code"], datum=datum, down=orientation == "down")


def compound_code(horizontal: int | None, vertical: VerticalCRS) -> int | None:
    """The code of the registered CRS of both, compound or three-dimensional, if there is one."""
    if horizontal is None:
        return None
    if vertical == ELLIPSOIDAL:
        query = "SELECT base FROM crs WHERE code = ?"
        query = f"SELECT code FROM crs WHERE kind = 'geographic 3D' AND code IN (?, ({query}))"
        found = row(query + " ORDER BY code = ? DESC", horizontal, horizontal, horizontal)
    else:
        query = "SELECT code FROM crs WHERE kind = 'compound' AND horizontal = ? AND vertical = ?"
        found = row(query + " ORDER BY deprecated, code", horizontal, vertical.code)
    return found["code"] if found else None


def _geographic(found: sqlite3.Row) -> GeographicCRS:
    axes = _axes(found["cs"])
    return GeographicCRS(
        found["name"], datum(_datum_of(found)), axes[0][1], found["code"], _orientations(axes)
    )


def _projected(found: sqlite3.Row) -> ProjectedCRS:
    under = row("SELECT * FROM crs WHERE code = ?", found["base"])
    assert under is not None
    base = _geographic(under)
    axes = _axes(found["cs"])
    made = conversion(found["conversion"])
    return ProjectedCRS(found["name"], base, made, axes[0][1], found["code"], _orientations(axes))


def _datum_of(found: sqlite3.Row) -> int:
    """The datum of a CRS row, its base's if it has none of its own."""
    while found["datum"] is None:
        base = row("SELECT * FROM crs WHERE code = ?", found["base"])
        assert base is not None
        found = base
    return int(found["datum"])


@lru_cache(maxsize=64)
def _axes(cs: int) -> tuple[tuple[str, Unit], ...]:
    found = rows("SELECT orientation, unit FROM axis WHERE cs = ? ORDER BY position", cs)
    return tuple((axis["orientation"].lower(), unit(axis["unit"])) for axis in found)


def _orientations(axes: tuple[tuple[str, Unit], ...]) -> tuple[str, ...]:
    return tuple(orientation for orientation, _ in axes[:2])


@lru_cache(maxsize=256)
def datum(code: int) -> Datum:
    """The geodetic datum of EPSG `code`; an ensemble has the ellipsoid and meridian of its members."""
    found = registered("datum", code)
    figure = found
    if found["ellipsoid"] is None:
        member = row("SELECT d.* FROM member JOIN datum d ON d.code = datum WHERE ensemble = ?", code)
        assert member is not None
        figure = member
    return Datum(found["name"], ellipsoid(figure["ellipsoid"]), _meridian(figure["meridian"]), code)


@lru_cache(maxsize=64)
def ellipsoid(code: int) -> Ellipsoid:
    """The ellipsoid of EPSG `code`, its axes in metres."""
    found = registered("ellipsoid", code)
    a = value_in_base(found["semi_major"], found["unit"])
    inverse = found["inverse_flattening"]
    if not inverse:
        b = value_in_base(found["semi_minor"] or found["semi_major"], found["unit"])
        inverse = a / (a - b) if a != b else 0.0
    return Ellipsoid(found["name"], a, inverse, code)


@lru_cache(maxsize=32)
def _meridian(code: int | None) -> float:
    found = row("SELECT longitude, unit FROM meridian WHERE code = ?", code)
    return math.degrees(value_in_base(found["longitude"], found["unit"])) if found else 0.0


@lru_cache(maxsize=1024)
def conversion(code: int) -> Conversion:
    """The map projection of EPSG operation `code`."""
    found = registered("operation", code)
    values = rows("SELECT parameter, value, unit FROM value WHERE operation = ? ORDER BY parameter", code)
    parameters = tuple((v["parameter"], value_in_base(v["value"], v["unit"])) for v in values)
    return Conversion(found["name"], found["method"], parameters, code)


def by_name(name: str) -> CRS:
    """The CRS of a registered name or alias, upper or lower case. Raises InputError, with the near miss."""
    order = "deprecated, kind IN ('geographic 3D', 'geocentric'), code"
    found = row(f"SELECT code FROM crs WHERE name = ? COLLATE NOCASE ORDER BY {order}", name) or row(
        "SELECT code FROM alias WHERE kind = 'crs' AND name = ? COLLATE NOCASE ORDER BY code", name
    )
    if found is None:
        first = name.split()[0] if name.split() else name
        query = "SELECT name FROM crs WHERE name LIKE ? AND NOT deprecated"
        alike = [r["name"] for r in rows(query, f"%{first}%")] if first else []
        hint = nearest_name(name, alike) if alike else ""
        raise InputError(
            f"{name!r} is not a CRS of the registry",
            "neither EPSG:code nor a registered name",
            f"did you mean EPSG:{name}?"
            if name.isdecimal() and entry(int(name)) is not None
            else hint
            if hint.startswith("did")
            else "look it up with zembrel crs find TEXT",
        )
    return by_code(found["code"])


def parse_crs(text: str) -> CRS:
    """A CRS from `EPSG:code` or a registry name; after a plus, what its heights mean. Raises InputError."""
    prefix, _, code = text.strip().partition(":")
    if prefix.lower() == "epsg" and code.strip().isdecimal():
        return by_code(int(code))
    horizontal, plus, vertical = text.rpartition("+")
    if not plus or _is_name(text.strip()):
        return by_name(text.strip())
    above = _parse_vertical(vertical.strip())
    return with_vertical(parse_crs(horizontal), above)


def _parse_vertical(text: str) -> VerticalCRS:
    found = ELLIPSOIDAL if text.lower() == ELLIPSOIDAL.name else parse_crs(text)
    if not isinstance(found, VerticalCRS):
        raise InputError(
            f"{text} is no vertical CRS",
            "after a plus stands what heights mean",
            f'write for example EPSG:5773, or "{ELLIPSOIDAL.name}"',
        )
    return found


def _is_name(text: str) -> bool:
    return bool(
        rows("SELECT 1 FROM crs WHERE name = ? COLLATE NOCASE", text)
        or rows("SELECT 1 FROM alias WHERE kind = 'crs' AND name = ? COLLATE NOCASE", text)
    )


_LIKE = 0.8  # of codes that may have been meant
_ENTRY = """SELECT c.code, c.name, c.kind, e.name AS area, e.west, e.south, e.east, e.north, c.deprecated,
    r.replaced_by
    FROM crs c LEFT JOIN extent e ON e.code = c.extent LEFT JOIN replacement r ON r.crs = c.code """


def entry(code: int) -> CRSEntry | None:
    """What the registry says of the CRS of EPSG `code` besides its definition."""
    found = row(_ENTRY + "WHERE c.code = ?", code)
    return _entry(found) if found else None


def find(text: str, most: int = 40) -> list[CRSEntry]:
    """CRSs whose name, alias or area holds all words of `text`; current ones, best fits first."""
    words = text.split()
    alias = "SELECT 1 FROM alias a WHERE a.kind = 'crs' AND a.code = c.code AND a.name LIKE ?"
    test = f"(c.name LIKE ? OR e.name LIKE ? OR EXISTS ({alias}))"
    found = rows(
        _ENTRY
        + "WHERE NOT c.deprecated AND c.kind IN ('projected', 'geographic 2D', 'compound', 'vertical') AND "
        + " AND ".join([test] * len(words))
        + " ORDER BY c.name LIKE ? DESC, c.kind <> 'geographic 2D', length(c.name), c.code LIMIT ?",
        *(f"%{word}%" for word in words for _ in range(3)),
        f"%{text}%",
        most,
    )
    return [_entry(r) for r in found]


def beginning(digits: str, most: int = 40) -> list[CRSEntry]:
    """Current CRSs whose code begins with these digits, in their order."""
    test = "WHERE NOT c.deprecated AND c.kind IN ('projected', 'geographic 2D', 'compound') AND c.code LIKE ?"
    return [_entry(r) for r in rows(f"{_ENTRY}{test} ORDER BY c.code LIMIT ?", f"{digits}%", most)]


def covering(lon: float, lat: float, most: int = 40) -> list[CRSEntry]:
    """Projected CRSs whose area of use holds a point, degrees of WGS 84; the smallest areas first."""
    across = "CASE WHEN e.west <= e.east THEN ? BETWEEN e.west AND e.east ELSE ? >= e.west OR ? <= e.east END"
    width = "(CASE WHEN e.west <= e.east THEN e.east - e.west ELSE e.east - e.west + 360 END)"
    query = f"WHERE NOT c.deprecated AND c.kind = 'projected' AND ? BETWEEN e.south AND e.north AND {across} "
    found = rows(
        _ENTRY + query + f"ORDER BY {width} * (e.north - e.south), c.code LIMIT ?", lat, lon, lon, lon, most
    )
    return [_entry(r) for r in found]


def fitting_at(lon: float, lat: float) -> CRS:
    """The zone of WGS 84 / UTM that holds a place; polar stereographic beyond the zones."""
    if lat > 84 or lat < -80:
        return by_code(5041 if lat > 0 else 5042)
    return by_code((32600 if lat >= 0 else 32700) + int((lon + 180) % 360 // 6) + 1)


def projected_codes() -> list[int]:
    """Codes of all projected CRSs that are not deprecated."""
    return [r["code"] for r in rows("SELECT code FROM crs WHERE kind = 'projected' AND NOT deprecated")]


def _entry(found: sqlite3.Row) -> CRSEntry:
    west, south, east, north = (
        math.nan if found[side] is None else float(found[side]) for side in ("west", "south", "east", "north")
    )
    return CRSEntry(
        found["code"],
        found["name"],
        found["kind"],
        found["area"] or "",
        (west, south, east, north),
        bool(found["deprecated"]),
        found["replaced_by"],
    )
