"""Well-known text of a CRS, version 1, as `.prj` files hold it.

Source: OGC 01-009 "Coordinate Transformation Services", section 7. Read here by code or name only;
definitions are recognised by their parameters once the whole registry is in.
"""

from __future__ import annotations

import math
import re

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS
from zembrel.geodesy.registry import by_code, by_name

_METHODS = {9807: "Transverse_Mercator", 1024: "Mercator_1SP"}
_PARAMETERS = {
    8801: "latitude_of_origin",
    8802: "central_meridian",
    8805: "scale_factor",
    8806: "false_easting",
    8807: "false_northing",
}
_ANGLES = (8801, 8802)


def write_wkt(crs: CRS) -> str:
    """WKT 1 of `crs`. Raises InputError if its definition is not known."""
    if isinstance(crs, UnresolvedCRS):
        raise crs.refuse()
    if isinstance(crs, GeographicCRS):
        return _geographic(crs)
    return _projected(crs)


def _authority(code: int | None) -> str:
    return f',AUTHORITY["EPSG","{code}"]' if code else ""


def _geographic(crs: GeographicCRS) -> str:
    ellipsoid = crs.datum.ellipsoid
    spheroid = f'SPHEROID["{ellipsoid.name}",{ellipsoid.semi_major!r},{ellipsoid.inverse_flattening!r}]'
    unit = f'UNIT["{crs.unit.name}",{math.radians(crs.unit.factor)!r}]'
    datum = f'DATUM["{crs.datum.name}",{spheroid}{_authority(crs.datum.code)}]'
    meridian = f'PRIMEM["Greenwich",{crs.datum.prime_meridian!r}]'
    return f'GEOGCS["{crs.name}",{datum},{meridian},{unit}{_authority(crs.code)}]'


def _projected(crs: ProjectedCRS) -> str:
    parameters = "".join(
        f'PARAMETER["{_PARAMETERS[code]}",{round(math.degrees(value), 12) if code in _ANGLES else value!r}],'
        for code, value in crs.conversion.parameters
    )
    method = f'PROJECTION["{_METHODS[crs.conversion.method]}"]'
    unit = f'UNIT["{crs.unit.name}",{crs.unit.factor!r}]'
    return f'PROJCS["{crs.name}",{_geographic(crs.base)},{method},{parameters}{unit}{_authority(crs.code)}]'


def read_wkt(text: str) -> CRS:
    """The CRS of WKT text, by its outermost authority code, else by its name. Raises InputError."""
    code = re.search(r'AUTHORITY\s*\[\s*"EPSG"\s*,\s*"?(\d+)"?\s*\]\s*\]\s*$', text)
    if code:
        return by_code(int(code[1]))
    name = re.match(r'\s*[A-Z]+\s*\[\s*"([^"]+)"', text)
    if not name:
        raise InputError(
            f"{text[:40]!r} is not well-known text of a CRS",
            'it begins KEYWORD["name", ...',
            "give EPSG:code instead",
        )
    return by_name(name[1].replace("_", " "))
