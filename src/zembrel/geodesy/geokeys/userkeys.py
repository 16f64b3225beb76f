"""GeoTIFF keys of CRSs that have no code: method, parameters, datum and units spelt out.

Source: OGC GeoTIFF Standard 1.1 (19-008r4), annex B.2 and B.3 and the code tables of annex C.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, Datum, GeographicCRS, ProjectedCRS
from zembrel.geodesy.ellipsoid import Ellipsoid
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.registry import datum as registered_datum
from zembrel.geodesy.registry import ellipsoid as registered_ellipsoid
from zembrel.geodesy.text import definition
from zembrel.geodesy.text.definition import GivenParameters
from zembrel.geodesy.text.names import parameters_of
from zembrel.geodesy.text.wkt_writer import ANGLES, LENGTHS, in_unit
from zembrel.geodesy.units import DEGREE, METRE, Unit, mismatch, unit

Keys = Mapping[int, int | float | str]
Row = tuple[int, int | float]
GEODETIC, DATUM, MERIDIAN, ELLIPSOID, SEMI_MAJOR, INVERSE, MERIDIAN_LONGITUDE = (
    2048,
    2050,
    2051,
    2056,
    2057,
    2059,
    2061,
)
ANGULAR_UNIT, ANGULAR_SIZE, LINEAR_UNIT, LINEAR_SIZE, METHOD = 2054, 2055, 3076, 3077, 3075
USER_DEFINED = 32767
_METHODS = {
    1: 9807, 3: 9815, 7: 9804, 8: 9802, 9: 9801, 10: 9820, 11: 9822, 12: 1125, 15: 9810, 16: 9809, 17: 1028,
    18: 9806, 22: 9818, 26: 9811, 27: 9808, 28: 9835,
}  # fmt: skip
_CODES = {method: code for code, method in _METHODS.items()} | {9805: 7, 9829: 15, 9812: 3}
# key -> EPSG parameters that it may stand for
_PARAMETERS = {
    3078: (8823, 8832), 3079: (8824,), 3080: (8802,), 3081: (8801,), 3082: (8806, 8816, 8826),
    3083: (8807, 8817, 8827), 3084: (8822,), 3085: (8821,), 3086: (8826,), 3087: (8827,), 3088: (8812, 8802),
    3089: (8811, 8801), 3090: (8816,), 3091: (8817,), 3092: (8805, 8815), 3093: (8815,), 3094: (8813,),
    3095: (8833, 8802), 3096: (8814,),
}  # fmt: skip


NUMBERS = frozenset({ANGULAR_SIZE, *range(SEMI_MAJOR, MERIDIAN_LONGITUDE + 1), LINEAR_SIZE, *_PARAMETERS})


def read_projected(keys: Keys, name: str) -> CRS | None:
    """The projected CRS that `keys` spell out; None if its method is not known here."""
    method = _METHODS.get(int(keys.get(METHOD, 0)))
    base = read_geographic(keys, "")
    if method is None or base is None:
        return None
    angle = _read_unit(keys, ANGULAR_UNIT, ANGULAR_SIZE, DEGREE)
    length = _read_unit(keys, LINEAR_UNIT, LINEAR_SIZE, METRE)
    for candidate in _variants(method, keys):
        given = []
        for key, meanings in _PARAMETERS.items():
            code = next((m for m in meanings if m in parameters_of(candidate)), None)
            if key in keys and code is not None:
                given.append(
                    GivenParameters(f"key {key}", code, _in_base(code, float(keys[key]), angle, length))
                )
        try:
            made = definition.assembled(name, "", candidate, given)
        except InputError:
            continue
        return definition.projected(name, base, made, length, None) if made is not None else None
    return None


def _variants(method: int, keys: Keys) -> tuple[int, ...]:
    """Methods that share a code in GeoTIFF; which it is, the keys that are there say."""
    if method == 9804:
        return (9805, 9804) if 3078 in keys else (9804,)
    if method == 9810:  # the latitude of origin is the pole or the true parallel
        lat = float(keys.get(3081, 90.0))
        return (9829, 9810) if 3078 in keys else (9810,) if abs(abs(lat) - 90) < 1e-9 else (9829,)
    return (method,)


def _in_base(code: int, value: float, angle: Unit, length: Unit) -> float:
    if code in ANGLES:
        return math.radians(value * angle.factor)
    return value * length.factor if code in LENGTHS else value


def _read_unit(keys: Keys, code_key: int, size_key: int, default: Unit) -> Unit:
    code = int(keys.get(code_key, 0))
    if code not in (0, USER_DEFINED):
        found = unit(code)
        if found.kind != default.kind:
            raise mismatch(found.name, default.kind)
        return found
    if size_key in keys and code == USER_DEFINED:
        size = float(keys[size_key])
        if not 0 < size < math.inf:
            raise InputError(f"a unit of {size:g}", "a unit has a size", "mend it with zembrel label --crs")
        return Unit("user-defined", default.kind, math.degrees(size) if default.kind == "angle" else size, 0)
    return default


def read_geographic(keys: Keys, name: str) -> GeographicCRS | None:
    """The geographic CRS that `keys` name by code or spell out; None if they do neither."""
    code = int(keys.get(GEODETIC, USER_DEFINED))
    if code not in (0, USER_DEFINED):
        found = by_code(code)
        return found if isinstance(found, GeographicCRS) else None
    angle = _read_unit(keys, ANGULAR_UNIT, ANGULAR_SIZE, DEGREE)
    datum_code = int(keys.get(DATUM, USER_DEFINED))
    if datum_code != USER_DEFINED:
        return definition.geographic(name, registered_datum(datum_code), angle, None)
    shape = _shape(keys)
    if shape is None:
        return None
    longitude = float(keys.get(MERIDIAN_LONGITUDE, 0.0)) * angle.factor
    return definition.geographic(name, Datum(name or "unnamed", shape, longitude), angle, None)


def _shape(keys: Keys) -> Ellipsoid | None:
    code = int(keys.get(ELLIPSOID, USER_DEFINED))
    if code != USER_DEFINED:
        return registered_ellipsoid(code)
    if SEMI_MAJOR not in keys:
        return None
    return definition.figure("user-defined", float(keys[SEMI_MAJOR]), float(keys.get(INVERSE, 0.0)))


def write_rows(crs: GeographicCRS | ProjectedCRS) -> list[Row] | None:
    """Keys and values that spell `crs` out, ascending; None if GeoTIFF has no code for its method."""
    if isinstance(crs, GeographicCRS):
        return sorted(_geographic_rows(crs))
    code = _CODES.get(crs.conversion.method)
    if code is None:
        return None
    base: list[Row] = [(GEODETIC, crs.base.code)] if crs.base.code else _geographic_rows(crs.base)
    rows = [*base, (METHOD, code), *_unit_rows(crs.unit, LINEAR_UNIT, LINEAR_SIZE)]
    for parameter, value in crs.conversion.parameters:
        key = next(k for k, meanings in _PARAMETERS.items() if parameter in meanings)
        rows.append((key, _out_of_base(parameter, value, crs)))
    return sorted(rows)


def _out_of_base(parameter: int, value: float, crs: ProjectedCRS) -> float:
    if parameter in ANGLES:
        return in_unit(value, crs.base.unit.factor)
    return float(f"{value / crs.unit.factor:.15g}") if parameter in LENGTHS else value


def _geographic_rows(crs: GeographicCRS) -> list[Row]:
    rows: list[Row] = [
        (GEODETIC, crs.code or USER_DEFINED),
        *_unit_rows(crs.unit, ANGULAR_UNIT, ANGULAR_SIZE),
    ]
    if crs.code:
        return rows
    if crs.datum.code:
        return [*rows, (DATUM, crs.datum.code)]
    shape = crs.datum.ellipsoid
    rows += [(DATUM, USER_DEFINED), (ELLIPSOID, USER_DEFINED), (SEMI_MAJOR, shape.semi_major)]
    rows += [(INVERSE, shape.inverse_flattening)]
    if crs.datum.prime_meridian:
        longitude = in_unit(math.radians(crs.datum.prime_meridian), crs.unit.factor)
        rows += [(MERIDIAN, USER_DEFINED), (MERIDIAN_LONGITUDE, longitude)]
    return rows


def _unit_rows(own: Unit, code_key: int, size_key: int) -> list[Row]:
    if own.code:
        return [(code_key, own.code)]
    return [
        (code_key, USER_DEFINED),
        (size_key, math.radians(own.factor) if own.kind == "angle" else own.factor),
    ]
