"""The JSON form of WKT 2: the same definitions as objects."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from zembrel.errors import InputError
from zembrel.geodesy.crs import (
    CRS,
    Datum,
    GeographicCRS,
    ProjectedCRS,
    VerticalCRS,
    VerticalDatum,
    vertical_of,
    with_vertical,
)
from zembrel.geodesy.registry import by_code, compound_code
from zembrel.geodesy.text import definition, names, vertical
from zembrel.geodesy.text.definition import GivenParameters
from zembrel.geodesy.text.wkt_writer import ANGLES, LENGTHS, ensemble, in_unit, meridian_name
from zembrel.geodesy.units import DEGREE, METRE, Unit, mismatch

Object = dict[str, Any]


def write(crs: GeographicCRS | ProjectedCRS | VerticalCRS) -> Object:
    """The object of `crs`."""
    if isinstance(crs, VerticalCRS):
        return vertical.json_object(crs)
    code = crs.code
    if crs.vertical is not None:
        code = compound_code(crs.code, crs.vertical)
        if crs.vertical.datum is not None:
            parts = [write(replace(crs, vertical=None)), write(crs.vertical)]
            return _object("CompoundCRS", f"{crs.name} + {crs.vertical.name}", {"components": parts}, code)
    if isinstance(crs, GeographicCRS):
        return _object("GeographicCRS", crs.name, _datum(crs.datum), code) | _system("ellipsoidal", crs)
    method = crs.conversion.method
    conversion = {
        "name": crs.conversion.name,
        "method": {"name": names.method_name(method), **_id(method)},
        "parameters": [_parameter(code, value) for code, value in crs.conversion.parameters],
        **_id(crs.conversion.code),
    }
    steps = {"base_crs": write(crs.base), "conversion": conversion}
    if crs.unit.kind == "angle":
        return _object("DerivedGeographicCRS", crs.name, steps, code) | _system("ellipsoidal", crs)
    return _object("ProjectedCRS", crs.name, steps, code) | _system("Cartesian", crs)


def _object(kind: str, name: str, parts: Object, code: int | None) -> Object:
    return {"type": kind, "name": name, **parts, **_id(code)}


def _id(code: int | None) -> Object:
    return {"id": {"authority": "EPSG", "code": code}} if code and code > 0 else {}


def _datum(datum: Datum) -> Object:
    shape = datum.ellipsoid
    figure: Object = {"semi_major_axis": shape.semi_major, "inverse_flattening": shape.inverse_flattening}
    if not shape.inverse_flattening:
        figure = {"radius": shape.semi_major}
    ellipsoid = {"name": shape.name, **figure, **_id(shape.code)}
    accuracy, members = ensemble(datum.code)
    if members:
        listed = [{"name": name, **_id(code)} for code, name in members]
        whole = {"name": datum.name, "members": listed, "ellipsoid": ellipsoid, "accuracy": f"{accuracy}"}
        return {"datum_ensemble": whole | _id(datum.code)}
    meridian = {"name": meridian_name(datum.prime_meridian), "longitude": datum.prime_meridian}
    frame = {"type": "GeodeticReferenceFrame", "name": datum.name, "ellipsoid": ellipsoid}
    return {"datum": frame | {"prime_meridian": meridian, **_id(datum.code)}}


def _unit(unit: Unit) -> str | Object:
    if unit in (METRE, DEGREE):
        return unit.name
    kind, factor = (
        ("AngularUnit", math.radians(unit.factor)) if unit.kind == "angle" else ("LinearUnit", unit.factor)
    )
    return {"type": kind, "name": unit.name, "conversion_factor": factor}


def _system(kind: str, crs: GeographicCRS | ProjectedCRS) -> Object:
    axes = [
        {**_axis(kind, a.split()[0]), "direction": a.split()[0], "unit": _unit(crs.unit)}
        for a in crs.axes[:2]
    ]
    axes += [vertical.json_axis(crs.vertical)] if crs.vertical else []
    return {"coordinate_system": {"subtype": kind, "axis": axes}}


def _axis(kind: str, direction: str) -> Object:
    """Name and abbreviation of an axis."""
    upright = direction in ("north", "south")
    if kind == "ellipsoidal":
        name, short = ("Geodetic latitude", "Lat") if upright else ("Geodetic longitude", "Lon")
    else:
        name = {"north": "Northing", "south": "Southing", "east": "Easting", "west": "Westing"}.get(
            direction, direction
        )
        short = "N" if upright else "E"
    return {"name": name, "abbreviation": short}


def _parameter(code: int, value: float) -> Object:
    if code in ANGLES:
        value, unit = in_unit(value, 1.0), "degree"
    else:
        unit = "metre" if code in LENGTHS else "unity"
    return {"name": names.parameter_name(code), "value": value, "unit": unit, **_id(code)}


def read(found: Object) -> CRS:
    """The CRS of an object. Raises InputError, or KeyError for a part that is missing."""
    kind = found["type"]
    if kind == "CompoundCRS":
        horizontal, above = (read(part) for part in found["components"])
        return with_vertical(horizontal, vertical_of(above))
    if kind == "BoundCRS":
        return read(found["source_crs"])
    if kind == "VerticalCRS":
        return _vertical(found)
    if kind in ("GeographicCRS", "GeodeticCRS"):
        return with_vertical(_geographic(found), _third_axis(found))
    if kind not in ("ProjectedCRS", "DerivedGeographicCRS"):
        return definition.unresolved(str(found.get("name", kind)), METRE)
    return with_vertical(_projected(found), _third_axis(found))


def _third_axis(found: Object) -> VerticalCRS | None:
    axes = found.get("coordinate_system", {}).get("axis", [])
    return (
        vertical.read_axis(axes[2]["direction"], _unit_of(axes[2].get("unit", "metre"), METRE))
        if len(axes) > 2
        else None
    )


def _vertical(found: Object) -> VerticalCRS:
    datum = found.get("datum") or found["datum_ensemble"]
    axis = found["coordinate_system"]["axis"][0]
    unit, down = _unit_of(axis.get("unit", "metre"), METRE), axis["direction"] == "down"
    return vertical.recognised(found["name"], VerticalDatum(datum["name"]), unit, down, _code(found))


def _projected(found: Object) -> CRS:
    steps = found["conversion"]
    given = [
        GivenParameters(p["name"], _code(p), float(p["value"]) * _factor(p.get("unit", "unity")))
        for p in steps["parameters"]
    ]
    made = definition.assembled(steps["name"], steps["method"]["name"], _code(steps["method"]), given)
    unit = _read_unit(found, DEGREE if found["type"] == "DerivedGeographicCRS" else METRE)
    if made is None:
        code = _code(found)
        return by_code(code) if code else definition.unresolved(found["name"], unit)
    return definition.projected(found["name"], _geographic(found["base_crs"]), made, unit, _code(found))


def _geographic(found: Object) -> GeographicCRS:
    frame = found.get("datum") or found["datum_ensemble"]
    shape = frame["ellipsoid"]
    semi_major = _size(shape.get("semi_major_axis", shape.get("radius")))
    inverse = shape.get("inverse_flattening")
    if inverse is None:
        semi_minor = _size(shape.get("semi_minor_axis", semi_major))
        inverse = semi_major / (semi_major - semi_minor) if semi_major != semi_minor else 0.0
    ellipsoid = definition.figure(shape["name"], semi_major, float(inverse), _code(shape))
    meridian = frame.get("prime_meridian", {"longitude": 0.0})["longitude"]
    if isinstance(meridian, dict):
        meridian = math.degrees(meridian["value"] * _factor(meridian["unit"]))
    own = Datum(frame["name"], ellipsoid, float(meridian), _code(frame))
    return definition.geographic(found["name"], own, _read_unit(found, DEGREE), _code(found))


def _size(value: float | Object) -> float:
    return float(value["value"]) * _factor(value["unit"]) if isinstance(value, dict) else float(value)


def _code(found: Object) -> int | None:
    mark = found.get("id") or {}
    return int(mark["code"]) if mark.get("authority") == "EPSG" else None


def _read_unit(found: Object, default: Unit) -> Unit:
    """The unit of the first axis."""
    axes = found.get("coordinate_system", {}).get("axis", [])
    return _unit_of(axes[0].get("unit", default.name) if axes else default.name, default)


def _unit_of(unit: str | Object, default: Unit) -> Unit:
    """A unit of the kind of `default`. Raises InputError for one of another kind."""
    if isinstance(unit, str):
        if unit not in (METRE.name, DEGREE.name):
            raise InputError(
                f"unit {unit!r}", "its size is not given", "give it as an object with its factor"
            )
        if unit != default.name:
            raise mismatch(unit, default.kind)
        return default
    if unit.get("type") == ("LinearUnit" if default.kind == "angle" else "AngularUnit"):
        raise mismatch(unit["name"], default.kind)
    factor = float(unit["conversion_factor"])
    if default.kind == "angle":
        size = math.degrees(factor)
        return Unit(unit["name"], "angle", 0.9 if math.isclose(size, 0.9, rel_tol=1e-9) else size, 0)
    return Unit(unit["name"], "length", factor, 0)


def _factor(unit: str | Object) -> float:
    if isinstance(unit, dict):
        return float(unit["conversion_factor"])
    return {"degree": math.radians(1), "metre": 1.0, "unity": 1.0}[unit]
