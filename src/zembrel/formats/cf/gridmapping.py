"""CRSs as grid mapping variables (CF 1.11, 5.6 and appendix F)."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, Conversion, Datum, GeographicCRS, ProjectedCRS, UnresolvedCRS
from zembrel.geodesy.ellipsoid import Ellipsoid
from zembrel.geodesy.projections.methods import (
    POLE_LATITUDE,
    POLE_LONGITUDE,
    POLE_WITHIN,
    ROTATED_POLE,
    SINUSOIDAL,
)
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.geodesy.text.definition import geographic, projected, recognised_datum
from zembrel.geodesy.units import DEGREE, METRE

Attributes = Mapping[str, Any]


class Mapped(NamedTuple):
    """A grid mapping and the EPSG method that is the same: attributes and the parameters they hold.

    fixed: parameters that the mapping takes for granted, in radians or ones.
    """

    name: str
    method: int
    parameters: tuple[tuple[str, int], ...]
    fixed: tuple[tuple[int, float], ...] = ()


_CENTRE = (("latitude_of_projection_origin", 8801), ("longitude_of_projection_origin", 8802))
_FALSE = (("false_easting", 8806), ("false_northing", 8807))
_CONIC = (
    ("standard_parallel", 8823), ("standard_parallel", 8824), ("latitude_of_projection_origin", 8821),
    ("longitude_of_central_meridian", 8822), ("false_easting", 8826), ("false_northing", 8827),
)  # fmt: skip
_MAPPED = (
    Mapped("transverse_mercator", 9807, (
        ("scale_factor_at_central_meridian", 8805), ("longitude_of_central_meridian", 8802),
        ("latitude_of_projection_origin", 8801), *_FALSE)),
    Mapped("lambert_conformal_conic", 9802, _CONIC),
    Mapped("lambert_conformal_conic", 9801, (
        ("standard_parallel", 8801), ("latitude_of_projection_origin", 8801),
        ("longitude_of_central_meridian", 8802), *_FALSE), ((8805, 1.0),)),
    Mapped("albers_conical_equal_area", 9822, _CONIC),
    Mapped("lambert_azimuthal_equal_area", 9820, (*_CENTRE, *_FALSE)),
    Mapped("lambert_cylindrical_equal_area", 9835, (
        ("standard_parallel", 8823), ("longitude_of_central_meridian", 8802), *_FALSE)),
    Mapped("mercator", 9805, (
        ("standard_parallel", 8823), ("longitude_of_projection_origin", 8802), *_FALSE)),
    Mapped("mercator", 9804, (
        ("scale_factor_at_projection_origin", 8805), ("longitude_of_projection_origin", 8802), *_FALSE),
        ((8801, 0.0),)),
    Mapped("polar_stereographic", 9810, (
        ("straight_vertical_longitude_from_pole", 8802), ("latitude_of_projection_origin", 8801),
        ("scale_factor_at_projection_origin", 8805), *_FALSE)),
    Mapped("polar_stereographic", 9829, (
        ("standard_parallel", 8832), ("straight_vertical_longitude_from_pole", 8833), *_FALSE)),
    Mapped("azimuthal_equidistant", 1125, (*_CENTRE, *_FALSE)),
    Mapped("sinusoidal", SINUSOIDAL, (("longitude_of_projection_origin", 8802), *_FALSE)),
    Mapped("oblique_mercator", 9815, (
        ("latitude_of_projection_origin", 8811), ("longitude_of_projection_origin", 8812),
        ("azimuth_of_central_line", 8813), ("azimuth_of_central_line", 8814),
        ("scale_factor_at_projection_origin", 8815), ("false_easting", 8816), ("false_northing", 8817))),
    Mapped("stereographic", 9809, (*_CENTRE, ("scale_factor_at_projection_origin", 8805), *_FALSE)),
    Mapped("orthographic", 9840, (*_CENTRE, *_FALSE)),
)  # fmt: skip
_ANGLES = ("latitude", "longitude", "parallel", "azimuth")
_ROTATED = "rotated_latitude_longitude"
_POLE = ("grid_north_pole_latitude", "grid_north_pole_longitude", "north_pole_grid_longitude")
_LISTED = "standard_parallel"  # the one attribute of several values


def mapping_attributes(crs: CRS) -> dict[str, Any]:
    """The attributes of the grid mapping variable of `crs`; of one that CF has no name for, WKT alone."""
    if isinstance(crs, UnresolvedCRS):
        return {}
    found: dict[str, Any] = {}
    if isinstance(crs, GeographicCRS):
        found["grid_mapping_name"] = "latitude_longitude"
    else:
        found |= _of_projection(crs.conversion)
        found["projected_crs_name"] = crs.name
    datum = crs.datum
    base = crs if isinstance(crs, GeographicCRS) else crs.base
    found |= {
        "semi_major_axis": datum.ellipsoid.semi_major,
        "inverse_flattening": datum.ellipsoid.inverse_flattening,
        "longitude_of_prime_meridian": datum.prime_meridian,
        "reference_ellipsoid_name": datum.ellipsoid.name,
        "horizontal_datum_name": datum.name,
        "geographic_crs_name": base.name,
        "crs_wkt": write_crs(crs, "wkt2"),
    }
    return found


def _of_projection(conversion: Conversion) -> dict[str, Any]:
    values = dict(conversion.parameters)
    if conversion.method == ROTATED_POLE:
        told = (_degrees(values[code]) for code in (POLE_LATITUDE, POLE_LONGITUDE, POLE_WITHIN))
        return {"grid_mapping_name": _ROTATED, **dict(zip(_POLE, told, strict=True))}
    for mapped in _MAPPED:
        granted = all(math.isclose(values.get(code, value), value) for code, value in mapped.fixed)
        if mapped.method != conversion.method or not granted:
            continue
        found: dict[str, Any] = {"grid_mapping_name": mapped.name}
        for attribute, code in mapped.parameters:
            value = float(values[code])
            value = _degrees(value) if any(word in attribute for word in _ANGLES) else value
            again = attribute == _LISTED and attribute in found
            found[attribute] = [*_listed(found[attribute]), value] if again else value
        return found
    return {}


def _degrees(radians: float) -> float:
    """Degrees as short as give the same radians back."""
    raw = math.degrees(radians)
    for digits in range(1, 17):
        short = float(f"{raw:.{digits}g}")
        if math.radians(short) == radians:
            return short
    return raw


def _listed(value: Any) -> list[float]:
    return [] if value is None else [float(v) for v in np.atleast_1d(value)]


def crs_of(attributes: Attributes) -> CRS | None:
    """The CRS of a grid mapping variable; None if it has neither WKT nor a name that is known.

    Raises InputError if its text or its parameters make no CRS.
    """
    for key in ("crs_wkt", "spatial_ref"):
        text = str(attributes.get(key, "")).strip()
        if text:
            return read_crs(text)
    name = attributes.get("grid_mapping_name")
    if name == "latitude_longitude":
        return _base(attributes)
    if name == _ROTATED:
        return _rotated(attributes)
    for mapped in _MAPPED:
        if mapped.name == name:
            values = _parameters(mapped, attributes)
            if values is not None:
                made = Conversion(str(name), mapped.method, values)
                title = str(attributes.get("projected_crs_name", name))
                return projected(title, _base(attributes), made, METRE, None)
    if name:
        raise InputError(
            f"grid mapping {name}", "its coordinates cannot be computed here", "give the CRS with --from-crs"
        )
    return None


def _rotated(attributes: Attributes) -> CRS:
    """The CRS of a pole elsewhere. Raises InputError if it does not say where."""
    try:
        values = [
            math.radians(float(attributes.get(key, default)))
            for key, default in zip(_POLE, (None, None, 0.0), strict=True)
        ]
    except (TypeError, ValueError) as exc:
        raise InputError(
            f"grid mapping {_ROTATED} without its pole", f"{exc}", "give the CRS with --from-crs"
        ) from exc
    codes = (POLE_LATITUDE, POLE_LONGITUDE, POLE_WITHIN)
    conversion = Conversion("pole rotation", ROTATED_POLE, tuple(sorted(zip(codes, values, strict=True))))
    return ProjectedCRS("rotated pole", _base(attributes), conversion, DEGREE)


def _parameters(mapped: Mapped, attributes: Attributes) -> tuple[tuple[int, float], ...] | None:
    values: dict[int, float] = dict(mapped.fixed)
    seen: dict[str, int] = {}
    for attribute, code in mapped.parameters:
        held = _listed(attributes.get(attribute, 0.0 if attribute.startswith("false") else None))
        number = seen.get(attribute, 0) if attribute == _LISTED else 0
        if number >= len(held):
            return None
        seen[attribute] = number + 1
        angle = any(word in attribute for word in _ANGLES)
        values[code] = math.radians(held[number]) if angle else held[number]
    wanted = sum(1 for attribute, _ in mapped.parameters if attribute == "standard_parallel")
    if wanted and len(_listed(attributes.get("standard_parallel"))) != wanted:
        return None
    return tuple(values.items())


def _base(attributes: Attributes) -> GeographicCRS:
    try:
        major = float(attributes.get("semi_major_axis", attributes.get("earth_radius", 6378137.0)))
        if "inverse_flattening" in attributes:
            inverse = float(attributes["inverse_flattening"])
        elif "semi_minor_axis" in attributes:
            minor = float(attributes["semi_minor_axis"])
            inverse = major / (major - minor) if major != minor else 0.0
        else:
            inverse = 0.0 if "earth_radius" in attributes else 298.257223563
        meridian = float(attributes.get("longitude_of_prime_meridian", 0.0))
    except (TypeError, ValueError) as exc:
        raise InputError(
            "a grid mapping has an unsound figure of the Earth", f"{exc}", "give the CRS with --from-crs"
        ) from exc
    shape = Ellipsoid(str(attributes.get("reference_ellipsoid_name", "unnamed")), major, inverse)
    assumed = "WGS 84" if (major, inverse) == (6378137.0, 298.257223563) else "unnamed"
    datum = Datum(str(attributes.get("horizontal_datum_name", assumed)), shape, meridian)
    name = str(attributes.get("geographic_crs_name", datum.name))
    return geographic(name, recognised_datum(datum), DEGREE, None)
