"""Writing WKT 1 and WKT 2."""

from __future__ import annotations

import math
from dataclasses import replace

from zembrel.geodesy.crs import Datum, GeographicCRS, ProjectedCRS, VerticalCRS
from zembrel.geodesy.projections.methods import PARAMETER_NAMES
from zembrel.geodesy.registry import compound_code
from zembrel.geodesy.registryfile import row, rows
from zembrel.geodesy.text import names, vertical
from zembrel.geodesy.text.tree import Item, TextNode, Word
from zembrel.geodesy.units import Unit, value_in_base

Defined = GeographicCRS | ProjectedCRS
ANGLES = frozenset(
    {8801, 8802, 8811, 8812, 8813, 8814, 8818, 8821, 8822, 8823, 8824, 8830, 8831, 8832, 8833, 1036}
    | PARAMETER_NAMES.keys()
)
LENGTHS = frozenset({8806, 8807, 8816, 8817, 8826, 8827, 8617, 8618, 1039})


def in_unit(radians: float, factor: float) -> float:
    """An angle in units of `factor` degrees, with as few digits as read back to the same radians."""
    size = math.degrees(radians) / factor
    for digits in range(6, 17):
        short = float(f"{size:.{digits}g}")
        if math.radians(short * factor) == radians:
            return short
    return size


def meridian_name(longitude: float) -> str:
    """The registered name of a prime meridian, degrees east of Greenwich."""
    for r in rows("SELECT name, longitude, unit FROM meridian"):
        if abs(math.degrees(value_in_base(r["longitude"], r["unit"])) - longitude) < 1e-9:
            return str(r["name"])
    return "unnamed"


# -- WKT 1 ----------------------------------------------------------------------------------------


def wkt1(crs: Defined | VerticalCRS) -> TextNode:
    """WKT 1, with the registry's codes."""
    if isinstance(crs, VerticalCRS):
        return vertical.wkt1(crs)
    flat = _projcs(crs, False) if isinstance(crs, ProjectedCRS) else _geogcs(crs, False)
    if crs.vertical is None:
        return flat
    both = compound_code(crs.code, crs.vertical)
    name = _compound_name(crs, crs.vertical)
    return TextNode("COMPD_CS", (name, flat, vertical.wkt1(crs.vertical), *_authority(both, False)))


def prj(crs: Defined | VerticalCRS) -> tuple[TextNode, ...]:
    """WKT 1 in the dialect of .prj files: no codes, underscores in names, heights after a comma."""
    if isinstance(crs, VerticalCRS):
        return (vertical.prj(crs, ("", TextNode("DATUM", ("",)))),)
    flat = _projcs(crs, True) if isinstance(crs, ProjectedCRS) else _geogcs(crs, True)
    if crs.vertical is None:
        return (flat,)
    base = flat.first("GEOGCS") or flat
    datum = base.first("DATUM")
    assert datum is not None
    return flat, vertical.prj(crs.vertical, (base.name, datum))


def _compound_name(crs: Defined, heights: VerticalCRS) -> str:
    both = compound_code(crs.code, heights)
    found = row("SELECT name FROM crs WHERE code = ? AND kind = 'compound'", both)
    return str(found["name"]) if found else f"{crs.name} + {heights.name}"


def _authority(code: int | None, prj: bool) -> tuple[TextNode, ...]:
    return (TextNode("AUTHORITY", ("EPSG", f"{code}")),) if code and not prj else ()


_PRJ_UNITS = {
    "metre": "Meter",
    "US survey foot": "Foot_US",
    "foot": "Foot",
    "degree": "Degree",
    "grad": "Grad",
}


def _prj_unit(unit: Unit) -> str:
    return _PRJ_UNITS.get(unit.name, names.prj_name(unit.name.title()))


def _geogcs(crs: GeographicCRS, prj: bool) -> TextNode:
    shape = crs.datum.ellipsoid
    usual = names.PRJ_DATUMS.get(crs.datum.code or 0) if crs.datum.prime_meridian == 0 else None
    ellipsoid = (usual.ellipsoid if usual else names.prj_name(shape.name)) if prj else shape.name
    spheroid = TextNode(
        "SPHEROID", (ellipsoid, shape.semi_major, shape.inverse_flattening, *_authority(shape.code, prj))
    )
    own = usual.geographic if usual else names.prj_name(crs.datum.name.removesuffix(" ensemble"))
    name = f"D_{own}" if prj else crs.datum.name
    datum = TextNode("DATUM", (name, spheroid, *_authority(crs.datum.code, prj)))
    meridian = in_unit(math.radians(crs.datum.prime_meridian), crs.unit.factor)
    items: tuple[Item, ...] = (
        f"GCS_{usual.geographic if usual else names.prj_name(crs.name)}" if prj else crs.name,
        datum,
        TextNode("PRIMEM", (meridian_name(crs.datum.prime_meridian), meridian)),
        TextNode("UNIT", (_prj_unit(crs.unit) if prj else crs.unit.name, math.radians(crs.unit.factor))),
        *_authority(crs.code, prj),
    )
    return TextNode("GEOGCS", items)


def _projcs(crs: ProjectedCRS, prj: bool) -> TextNode:
    method = crs.conversion.method
    parameters = tuple(
        TextNode("PARAMETER", (names.wkt1_parameter(code, method, prj), _wkt1_value(code, value, crs)))
        for code, value in crs.conversion.parameters
    )
    turned = crs.axes[:2] not in (("east", "north"), ("north", "east")) and not prj
    axes = (
        tuple(TextNode("AXIS", (_axis_name(a), Word(a.split()[0].upper()))) for a in crs.axes)
        if turned
        else ()
    )
    unit = TextNode("UNIT", (_prj_unit(crs.unit) if prj else crs.unit.name, crs.unit.factor))
    projection = TextNode("PROJECTION", (names.wkt1_method(method, prj),))
    name = names.prj_title(crs.name, crs.base.name, crs.datum.code) if prj else crs.name
    base = _geogcs(crs.base, prj)
    return TextNode("PROJCS", (name, base, projection, *parameters, unit, *axes, *_authority(crs.code, prj)))


def _wkt1_value(code: int, value: float, crs: ProjectedCRS) -> float:
    if code in ANGLES:
        return in_unit(value, crs.base.unit.factor)
    return float(f"{value / crs.unit.factor:.15g}") if code in LENGTHS else value


def _axis_name(orientation: str) -> str:
    return {"north": "Northing", "south": "Southing", "east": "Easting", "west": "Westing"}.get(
        orientation.split()[0], orientation
    )


# -- WKT 2 ----------------------------------------------------------------------------------------


def wkt2(crs: Defined | VerticalCRS) -> TextNode:
    """WKT 2:2019, with the registry's names and codes, axes as registered."""
    if isinstance(crs, VerticalCRS):
        return vertical.wkt2(crs)
    if crs.vertical is not None and crs.vertical.datum is not None:
        both = compound_code(crs.code, crs.vertical)
        parts = _flat2(replace(crs, vertical=None)), vertical.wkt2(crs.vertical), *_id(both)
        return TextNode("COMPOUNDCRS", (_compound_name(crs, crs.vertical), *parts))
    return _flat2(crs)


def _flat2(crs: Defined) -> TextNode:
    """A CRS of two axes, or of three with heights above the ellipsoid."""
    code = crs.code if crs.vertical is None else compound_code(crs.code, crs.vertical)
    if isinstance(crs, GeographicCRS):
        parts: tuple[Item, ...] = (*_datum2(crs.datum), *_system2("ellipsoidal", crs), *_id(code))
        return TextNode("GEOGCRS", (crs.name, *parts))
    under: tuple[Item, ...] = (
        crs.base.name,
        *_datum2(crs.base.datum),
        _unit2(crs.base.unit),
        *_id(crs.base.code),
    )
    base, method = TextNode("BASEGEOGCRS", under), crs.conversion.method
    steps: tuple[Item, ...] = (
        crs.conversion.name,
        TextNode("METHOD", (names.method_name(method), *_id(method))),
        *(_parameter2(code, value) for code, value in crs.conversion.parameters),
        *_id(crs.conversion.code),
    )
    if crs.unit.kind == "angle":
        conversion = TextNode("DERIVINGCONVERSION", steps)
        return TextNode("GEOGCRS", (crs.name, base, conversion, *_system2("ellipsoidal", crs), *_id(code)))
    conversion = TextNode("CONVERSION", steps)
    return TextNode("PROJCRS", (crs.name, base, conversion, *_system2("Cartesian", crs), *_id(code)))


def _id(code: int | None) -> tuple[TextNode, ...]:
    return (TextNode("ID", ("EPSG", float(code))),) if code and code > 0 else ()


def _unit2(unit: Unit) -> TextNode:
    if unit.kind == "angle":
        return TextNode("ANGLEUNIT", (unit.name, math.radians(unit.factor), *_id(unit.code)))
    return TextNode("LENGTHUNIT", (unit.name, unit.factor, *_id(unit.code)))


def _datum2(datum: Datum) -> tuple[TextNode, ...]:
    shape = datum.ellipsoid
    metre = TextNode("LENGTHUNIT", ("metre", 1.0))
    ellipsoid = TextNode(
        "ELLIPSOID", (shape.name, shape.semi_major, shape.inverse_flattening, metre, *_id(shape.code))
    )
    degree = TextNode("ANGLEUNIT", ("degree", math.radians(1)))
    meridian = TextNode("PRIMEM", (meridian_name(datum.prime_meridian), datum.prime_meridian, degree))
    accuracy, members = ensemble(datum.code)
    if members:
        listed = tuple(TextNode("MEMBER", (name, *_id(code))) for code, name in members)
        within = TextNode("ENSEMBLEACCURACY", (accuracy,))
        return TextNode("ENSEMBLE", (datum.name, *listed, ellipsoid, within, *_id(datum.code))), meridian
    return TextNode("DATUM", (datum.name, ellipsoid, *_id(datum.code))), meridian


def ensemble(code: int | None) -> tuple[float, list[tuple[int, str]]]:
    """Metres of accuracy and the members, code and name each, of a datum ensemble; none of another datum."""
    found = row("SELECT accuracy FROM datum WHERE code = ? AND kind = 'ensemble'", code)
    if found is None:
        return 1.0, []
    query = (
        "SELECT d.code, d.name FROM member JOIN datum d ON d.code = datum WHERE ensemble = ? ORDER BY d.code"
    )
    return float(found["accuracy"] or 1.0), [(r["code"], r["name"]) for r in rows(query, code)]


def _parameter2(code: int, value: float) -> TextNode:
    if code in ANGLES:
        items: tuple[float | TextNode, ...] = (
            in_unit(value, 1.0),
            TextNode("ANGLEUNIT", ("degree", math.radians(1))),
        )
    elif code in LENGTHS:
        items = (value, TextNode("LENGTHUNIT", ("metre", 1.0)))
    else:
        items = (value, TextNode("SCALEUNIT", ("unity", 1.0)))
    return TextNode("PARAMETER", (names.parameter_name(code), *items, *_id(code)))


def _system2(kind: str, crs: Defined) -> tuple[TextNode, ...]:
    unit = _unit2(crs.unit)
    each = (unit,) if crs.vertical is not None else ()
    axes = tuple(
        TextNode("AXIS", (_axis_label(a, kind), Word(_direction(a)), TextNode("ORDER", (float(n),)), *each))
        for n, a in enumerate(crs.axes[:2], 1)
    )
    if crs.vertical is None:
        return TextNode("CS", (Word(kind), 2.0)), *axes, unit
    return TextNode("CS", (Word(kind), 3.0)), *axes, vertical.axis2(crs.vertical)


def _direction(orientation: str) -> str:
    return orientation.split()[0]


def _axis_label(orientation: str, kind: str) -> str:
    if kind == "ellipsoidal":
        return "latitude" if _direction(orientation) in ("north", "south") else "longitude"
    return _axis_name(orientation).lower()
