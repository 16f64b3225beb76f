"""GeoTIFF keys of what heights mean.

Source: OGC GeoTIFF Standard 1.1 (19-008r4), section 7.4.5 and annex B.4: a vertical CRS, or the geographic 3D
CRS above whose ellipsoid heights are counted.
"""

from __future__ import annotations

from collections.abc import Mapping

from zembrel.errors import InputError
from zembrel.geodesy.crs import (
    ELLIPSOIDAL,
    GeographicCRS,
    ProjectedCRS,
    VerticalCRS,
    VerticalDatum,
    vertical_of,
)
from zembrel.geodesy.registry import by_code, compound_code
from zembrel.geodesy.registryfile import row
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.geodesy.text.vertical import recognised
from zembrel.geodesy.units import Unit, unit

Keys = dict[int, int | float | str]
CRS, CITATION, DATUM, UNITS = 4096, 4097, 4098, 4099
USER_DEFINED = 32767
_OF_ELLIPSOIDS = range(5001, 5036)  # vertical codes of GeoTIFF 1.0


def read(keys: Mapping[int, int | float | str]) -> VerticalCRS | None:
    """What heights mean: a vertical or geographic 3D code, or a datum and a unit."""
    code, name = _code(keys, CRS), str(keys.get(CITATION, ""))
    known: VerticalCRS | None = None
    if code in _OF_ELLIPSOIDS:
        known = ELLIPSOIDAL
    elif code not in (0, USER_DEFINED):
        try:
            known = vertical_of(by_code(code))
        except InputError:
            return None
    elif name.startswith(("VERTCRS[", "VERTCS[")):
        return vertical_of(read_crs(name))
    datum = _code(keys, DATUM)
    if known is None and name and datum in (0, USER_DEFINED):
        known = VerticalCRS(name, datum=VerticalDatum(name))
    elif known is None and datum not in (0, USER_DEFINED):
        named = row("SELECT name FROM datum WHERE code = ? AND kind = 'vertical'", datum)
        known = VerticalCRS(name, datum=VerticalDatum(named["name"], datum)) if named else None
    own = _unit(keys)
    if known is None or (known.code is not None and own in (None, known.unit)):
        return known
    own = own or known.unit
    return recognised(known.name, known.datum, own, known.down, None)


def write(crs: GeographicCRS | ProjectedCRS, vertical: VerticalCRS) -> Keys:
    code, name = vertical.code, vertical.name
    if vertical.datum is None:
        base = crs if isinstance(crs, GeographicCRS) else crs.base
        code = compound_code(base.code, ELLIPSOIDAL)
    elif code is None:
        name = write_crs(vertical, "wkt2")
    keys: Keys = {CRS: code or USER_DEFINED, CITATION: name}
    return keys | ({UNITS: vertical.unit.code} if vertical.unit.code else {})


def _code(keys: Mapping[int, int | float | str], key: int) -> int:
    """The code that a key holds, or 0 if it holds none."""
    found = keys.get(key, 0)
    return found if isinstance(found, int) else 0


def _unit(keys: Mapping[int, int | float | str]) -> Unit | None:
    code = _code(keys, UNITS)
    return unit(code) if row("SELECT 1 FROM unit WHERE code = ? AND kind = 'length'", code) else None
