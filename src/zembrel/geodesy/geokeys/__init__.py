"""CRSs as GeoKeys, which GeoTIFF and LAS files hold: a directory of short numbers, with doubles and texts.

Source: OGC GeoTIFF Standard 1.1 (19-008r4), chapter 7 and annex B; LAS 1.4 R15, section 3.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, with_vertical
from zembrel.geodesy.geokeys import userkeys, verticalkeys
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.geodesy.units import DEGREE, METRE

Keys = dict[int, int | float | str]
MODEL_TYPE, RASTER_TYPE, CITATION = 1024, 1025, 1026
GEODETIC_CRS, GEODETIC_CITATION, ANGULAR_UNITS = 2048, 2049, 2054
PROJECTED_CRS, PROJECTED_CITATION, LINEAR_UNITS = 3072, 3073, 3076
PROJECTED, GEOGRAPHIC = 1, 2
USER_DEFINED = 32767
DIRECTORY, DOUBLES, TEXTS = 34735, 34736, 34737  # GeoTIFF tags, and records of LAS


class Packed(NamedTuple):
    """Keys as they are stored: the directory's short numbers, and what these point into."""

    directory: list[int]
    doubles: list[float]
    text: str


def unpack(numbers: npt.NDArray[np.integer], doubles: npt.NDArray[np.float64], text: str) -> Keys:
    """The keys of a directory; broken ones are left out."""
    if len(numbers) < 4:
        return {}
    keys: Keys = {}
    for key, place, count, value in (
        numbers[4 : 4 + (len(numbers) - 4) // 4 * 4].reshape(-1, 4).tolist()[: int(numbers[3])]
    ):
        if place == 0:
            keys[key] = value
        elif place == DOUBLES and value < len(doubles):
            keys[key] = float(doubles[value])
        elif place == TEXTS:
            keys[key] = text[value : value + count].rstrip("|\0")
    return {key: value for key, value in keys.items() if isinstance(value, _kinds(key))}


def pack(keys: Keys) -> Packed:
    """The directory of `keys`, in ascending order."""
    rows: list[list[int]] = []
    doubles: list[float] = []
    text = ""
    for key, value in sorted(keys.items()):
        if isinstance(value, str):
            value = value.replace("|", "/") + "|"
            rows.append([key, TEXTS, len(value), len(text)])
            text += value
        elif isinstance(value, float):
            rows.append([key, DOUBLES, 1, len(doubles)])
            doubles.append(value)
        else:
            rows.append([key, 0, 1, value])
    return Packed([n for row in ([1, 1, 1, len(rows)], *rows) for n in row], doubles, text)


def crs_of(keys: Keys) -> CRS | None:
    """The CRS that keys tell, with what heights mean; None if they tell none."""
    crs = _horizontal(keys)
    return (
        with_vertical(crs, verticalkeys.read(keys)) if crs is not None and verticalkeys.CRS in keys else crs
    )


def keys_of(crs: CRS) -> Keys:
    """The keys of a CRS."""
    if isinstance(crs, ProjectedCRS) and crs.unit.kind == "angle":  # no place on a map, nor on the Earth
        return {MODEL_TYPE: USER_DEFINED, CITATION: write_crs(with_vertical(crs, None), "wkt2")}
    geographic = isinstance(crs, GeographicCRS) or (isinstance(crs, UnresolvedCRS) and crs.unit == DEGREE)
    kind, name, units = (
        (GEODETIC_CRS, GEODETIC_CITATION, ANGULAR_UNITS)
        if geographic
        else (PROJECTED_CRS, PROJECTED_CITATION, LINEAR_UNITS)
    )
    # codes of GeoTIFF have 16 bits
    code = crs.code if crs.code and crs.code < USER_DEFINED else USER_DEFINED
    keys: Keys = {MODEL_TYPE: GEOGRAPHIC if geographic else PROJECTED}
    keys |= {kind: code, name: crs.name}
    if crs.unit.code:
        keys[units] = crs.unit.code
    if code == USER_DEFINED and not isinstance(crs, UnresolvedCRS):
        spelt = userkeys.write_rows(crs)
        if spelt is None:
            keys[CITATION] = write_crs(with_vertical(crs, None), "wkt2")
        else:
            keys |= {key: float(v) if isinstance(v, float) else int(v) for key, v in spelt}
            keys[kind] = USER_DEFINED
    if not isinstance(crs, UnresolvedCRS) and crs.vertical is not None:
        keys |= verticalkeys.write(crs, crs.vertical)
    return keys


def _kinds(key: int) -> tuple[type, ...]:
    """What a key may hold: texts, numbers or codes. Values of another kind are broken and do not count."""
    if key in (CITATION, GEODETIC_CITATION, PROJECTED_CITATION, verticalkeys.CITATION):
        return (str,)
    return (int, float) if key in userkeys.NUMBERS else (int,)


def _horizontal(keys: Keys) -> CRS | None:
    projected = keys.get(MODEL_TYPE) == PROJECTED
    spelt_out = str(keys.get(CITATION, ""))
    if keys.get(MODEL_TYPE) == USER_DEFINED and spelt_out.startswith("GEOGCRS["):
        return read_crs(spelt_out)
    if keys.get(MODEL_TYPE) not in (PROJECTED, GEOGRAPHIC):
        return None
    code = int(keys.get(PROJECTED_CRS if projected else GEODETIC_CRS, USER_DEFINED))
    citation = keys.get(PROJECTED_CITATION if projected else GEODETIC_CITATION) or keys.get(CITATION)
    name = str(citation or (f"EPSG:{code}" if code not in (0, USER_DEFINED) else "user-defined"))
    unresolved = UnresolvedCRS(
        name, METRE if projected else DEGREE, None if code in (0, USER_DEFINED) else code
    )
    if unresolved.code is not None:
        try:
            return by_code(code)
        except InputError:
            return unresolved
    if spelt_out.startswith("PROJCRS["):
        return read_crs(spelt_out)
    try:
        spelt = userkeys.read_projected(keys, name) if projected else userkeys.read_geographic(keys, name)
    except InputError:  # of a code or a number that makes no sense
        return unresolved
    return spelt or unresolved
