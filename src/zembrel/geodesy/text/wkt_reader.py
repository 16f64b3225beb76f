"""Reading WKT 1, in both dialects, and WKT 2."""

from __future__ import annotations

import math

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, Datum, GeographicCRS, VerticalCRS, vertical_of, with_vertical
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import definition, vertical
from zembrel.geodesy.text.definition import GivenParameters
from zembrel.geodesy.text.names import plain
from zembrel.geodesy.text.tree import TextNode, Word
from zembrel.geodesy.text.wkt_writer import ANGLES
from zembrel.geodesy.units import DEGREE, METRE, Unit, kind_of, mismatch

_PROJECTED = ("PROJCS", "PROJCRS", "PROJECTEDCRS")
_GEOGRAPHIC = ("GEOGCS", "GEOGCRS", "GEOGRAPHICCRS", "GEODCRS", "GEODETICCRS", "BASEGEOGCRS", "BASEGEODCRS")
_COMPOUND = ("COMPD_CS", "COMPOUNDCRS")
_WRAPPED = ("BOUNDCRS", "SOURCECRS")
_VERTICAL = ("VERT_CS", "VERTCS", "VERTCRS", "VERTICALCRS")
_ANGLE_WORDS = ("latitude", "longitude", "meridian", "parallel", "azimuth", "angle", "center", "zonewidth")


def read(node: TextNode) -> CRS:
    """The CRS of a tree. Raises InputError for a definition that is not whole."""
    if node.keyword in _PROJECTED:
        return with_vertical(_projected(node), _third_axis(node))
    if node.keyword in _GEOGRAPHIC and node.first("DERIVINGCONVERSION") is not None:
        return _projected(node)
    if node.keyword in _GEOGRAPHIC:
        return with_vertical(_geographic(node), _third_axis(node))
    if node.keyword in _VERTICAL:
        return vertical.read(node, _code(node), _height_unit(node))
    inner = node.first(*_PROJECTED, *_GEOGRAPHIC, *_COMPOUND, *_WRAPPED)
    if node.keyword in (*_COMPOUND, *_WRAPPED) and inner is not None:
        above = node.first(*_VERTICAL)
        found = read(inner)
        return found if above is None else with_vertical(found, vertical_of(read(above)))
    return definition.unresolved(node.name or node.keyword, METRE)


def _third_axis(node: TextNode) -> VerticalCRS | None:
    """What heights mean in a CRS of three axes."""
    axes = list(node.all("AXIS"))
    if len(axes) < 3:
        return None
    words = [item.name.lower() for item in axes[2].items if isinstance(item, Word)]
    return vertical.read_axis(words[0] if words else "up", _unit(axes[2], "length", METRE))


def _height_unit(node: TextNode) -> Unit:
    axis = node.first("AXIS")
    return _unit(node, "length", _unit(axis, "length", METRE) if axis else METRE)


def _code(node: TextNode) -> int | None:
    for mark in node.all("AUTHORITY", "ID"):
        if mark.name.upper() == "EPSG" and len(mark.items) > 1:
            code = mark.items[1]
            if (isinstance(code, float) and code.is_integer()) or (
                isinstance(code, str) and code.isdecimal()
            ):
                return int(code)
    return None


def _unit(node: TextNode, kind: str, default: Unit) -> Unit:
    """The unit that `node` says, in radians (angles) or metres (lengths)."""
    due, other = ("ANGLEUNIT", "LENGTHUNIT") if kind == "angle" else ("LENGTHUNIT", "ANGLEUNIT")
    found = node.first(due, "UNIT")
    if found is None:
        wrong = node.first(other)
        if wrong is not None:
            raise mismatch(wrong.name, kind)
        return default
    if kind_of(found.name) not in (None, kind):
        raise mismatch(found.name, kind)
    factor = found.number(1)
    if not (math.isfinite(factor) and factor > 0):
        raise InputError(f"unit {found.name!r} of {factor:g}", "a unit has a size", "correct the text")
    if kind == "angle":
        if math.isclose(factor, math.radians(1), rel_tol=1e-9):
            return DEGREE
        size = math.degrees(factor)
        return Unit(found.name.lower(), "angle", 0.9 if math.isclose(size, 0.9, rel_tol=1e-9) else size, 0)
    return METRE if factor == 1.0 else Unit(found.name, "length", factor, _code(found) or 0)


def _geographic(node: TextNode) -> GeographicCRS:
    axes_unit = next((a for a in node.all("AXIS") if a.first("ANGLEUNIT")), None)
    unit = _unit(node, "angle", _unit(axes_unit, "angle", DEGREE) if axes_unit else DEGREE)
    return definition.geographic(_name(node, "GCS_"), _datum(node, unit), unit, _code(node))


def _name(node: TextNode, prefix: str) -> str:
    return node.name.removeprefix(prefix)


def _datum(node: TextNode, unit: Unit) -> Datum:
    found = node.first("DATUM", "ENSEMBLE", "TRF", "GEODETICDATUM")
    shape = (found.first("SPHEROID", "ELLIPSOID") if found else None) or node.first("SPHEROID", "ELLIPSOID")
    if found is None or shape is None:
        raise InputError(
            f"{node.keyword}[{node.name!r} ...] names no datum with an ellipsoid",
            "coordinates on it cannot be computed",
            "complete the text, or give EPSG:code instead",
        )
    metres = _unit(shape, "length", METRE).factor
    ellipsoid = definition.figure(shape.name, shape.number(1) * metres, shape.number(2), _code(shape))
    meridian, longitude = node.first("PRIMEM", "PRIMEMERIDIAN"), 0.0
    if meridian is not None:
        own = _unit(meridian, "angle", unit if node.keyword == "GEOGCS" else DEGREE)
        longitude = meridian.number(1) * own.factor
    return Datum(found.name, ellipsoid, longitude, _code(found))


def _projected(node: TextNode) -> CRS:
    inner = node.first(*_GEOGRAPHIC)
    if inner is None:
        raise InputError(
            f"{node.keyword}[{node.name!r} ...] has no geographic CRS under it",
            "its datum is unknown",
            "complete the text, or give EPSG:code instead",
        )
    base = _geographic(inner)
    derived = node.first("DERIVINGCONVERSION")
    kind, word, usual = ("angle", "ANGLEUNIT", DEGREE) if derived else ("length", "LENGTHUNIT", METRE)
    with_unit = next((a for a in node.all("AXIS") if a.first(word)), None)
    unit = _unit(node, kind, _unit(with_unit, kind, usual) if with_unit else usual)
    steps = derived or node.first("CONVERSION") or node
    method = steps.first("METHOD", "PROJECTION")
    if method is None:
        raise InputError(
            f"{node.name!r} names no projection", "its coordinates cannot be computed", "complete the text"
        )
    given = [_given(p, base.unit, unit) for p in steps.all("PARAMETER")]
    name = steps.name if steps is not node else node.name
    made = definition.assembled(name, method.name, _code(method), given)
    code = _code(node)
    if made is None:
        return by_code(code) if code else definition.unresolved(node.name, unit)
    return definition.projected(node.name, base, made, unit, code)


def _given(node: TextNode, angle: Unit, length: Unit) -> GivenParameters:
    """A parameter in radians, metres or ones, by its own unit or by the kind that its name says."""
    code, value = _code(node), node.number(1)
    own = node.first("ANGLEUNIT", "LENGTHUNIT", "SCALEUNIT", "UNIT")
    if own is not None:
        factor = own.number(1)
        if own.keyword == "ANGLEUNIT":
            size = math.degrees(factor)
            value = math.radians(value if math.isclose(size, 1, rel_tol=1e-9) else value * size)
            return GivenParameters(node.name, code, value)
        return GivenParameters(node.name, code, value * factor)
    word = plain(node.name)
    angular = any(part in word for part in _ANGLE_WORDS) and not word.startswith("scale")
    if code in ANGLES or (code is None and angular):
        return GivenParameters(node.name, code, math.radians(value * angle.factor))
    if word.startswith("false") or "easting" in word or "northing" in word or "ordinate" in word:
        return GivenParameters(node.name, code, value * length.factor)
    return GivenParameters(node.name, code, value)
