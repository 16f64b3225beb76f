"""GeoTIFF: keys <-> CRS, and transform tags <-> frame.

Source: OGC GeoTIFF Standard 1.1 (19-008r4), chapters 7 and annex B.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.formats.tiff import tags, userkeys, verticalkeys
from zembrel.formats.tiff.directory import Directory, broken
from zembrel.geodesy.crs import CRS, GeographicCRS, UnresolvedCRS, with_vertical
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.geodesy.units import DEGREE, METRE
from zembrel.grid.frame import Affine, Frame

MODEL_TYPE, RASTER_TYPE, CITATION = 1024, 1025, 1026
GEODETIC_CRS, GEODETIC_CITATION, ANGULAR_UNITS = 2048, 2049, 2054
PROJECTED_CRS, PROJECTED_CITATION, LINEAR_UNITS = 3072, 3073, 3076
PROJECTED, GEOGRAPHIC = 1, 2
AREA, POINT = 1, 2
USER_DEFINED = 32767


def read_frame(directory: Directory, width: int, height: int) -> Frame | None:
    """The frame of an image of `width` x `height` cells, or None if it is not georeferenced."""
    affine = _read_affine(directory)
    keys = _read_keys(directory)
    if affine is None:
        return None
    registration = "node" if keys.get(RASTER_TYPE) == POINT else "cell"
    crs = _read_crs(keys)
    crs = with_vertical(crs, verticalkeys.read(keys)) if crs is not None and verticalkeys.CRS in keys else crs
    return Frame(crs, affine, width, height, registration)


def _read_affine(directory: Directory) -> Affine | None:
    matrix = directory.values(tags.MODEL_TRANSFORMATION)
    if len(matrix) == 16:
        a, b, _, d, e, f, _, h = (float(v) for v in matrix[:8])
        return Affine(d, h, a, f, b, e)
    scale, ties = directory.values(tags.MODEL_PIXEL_SCALE), directory.values(tags.MODEL_TIEPOINT)
    if len(scale) >= 2 and len(ties) >= 6:
        col, row, _, x, y = (float(v) for v in ties[:5])
        across, along = float(scale[0]), float(scale[1])
        return Affine(x - col * across, y + row * along, across, -along)
    if len(ties) >= 24 and len(ties) % 6 == 0:
        return _through(ties.reshape(-1, 6)[:, [0, 1, 3, 4]])
    if len(matrix) or len(scale):
        raise broken(directory.container.path, "its transform tags have the wrong number of values")
    return None


def _through(ties: npt.NDArray[np.float64]) -> Affine | None:
    """The affine through a grid of tie points (column, row, x, y), if there is one to 1/100 cell.

    Points that are not of one affine give the image no place: that is a matter for `pin`.
    """
    places = np.column_stack([np.ones(len(ties)), ties[:, :2]])
    if np.linalg.matrix_rank(places) < 3:
        return None
    (x, y), (x_col, y_col), (x_row, y_row) = np.linalg.lstsq(places, ties[:, 2:], rcond=None)[0].tolist()
    affine = Affine(x, y, x_col, y_row, x_row, y_col)
    if not affine.x_col * affine.y_row - affine.x_row * affine.y_col:
        return None
    columns, rows = affine.position(ties[:, 2], ties[:, 3])
    return affine if np.hypot(columns - ties[:, 0], rows - ties[:, 1]).max() < 0.01 else None


def _read_keys(directory: Directory) -> dict[int, int | float | str]:
    numbers = directory.values(tags.GEO_KEY_DIRECTORY)
    if len(numbers) < 4:
        return {}
    doubles = directory.values(tags.GEO_DOUBLE_PARAMS)
    text = directory.values(tags.GEO_ASCII_PARAMS).tobytes().decode("utf-8", "replace")
    keys: dict[int, int | float | str] = {}
    for key, place, count, value in numbers[4 : 4 + 4 * int(numbers[3])].reshape(-1, 4).tolist():
        if place == 0:
            keys[key] = value
        elif place == tags.GEO_DOUBLE_PARAMS and value < len(doubles):
            keys[key] = float(doubles[value])
        elif place == tags.GEO_ASCII_PARAMS:
            keys[key] = text[value : value + count].rstrip("|\0")
    return {key: value for key, value in keys.items() if isinstance(value, _kinds(key))}


def _kinds(key: int) -> tuple[type, ...]:
    """What a key may hold: texts, numbers or codes. Values of another kind are broken and do not count."""
    if key in (CITATION, GEODETIC_CITATION, PROJECTED_CITATION, verticalkeys.CITATION):
        return (str,)
    return (int, float) if key in userkeys.NUMBERS else (int,)


def _read_crs(keys: dict[int, int | float | str]) -> CRS | None:
    projected = keys.get(MODEL_TYPE) == PROJECTED
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
    if str(keys.get(CITATION, "")).startswith("PROJCRS["):
        return read_crs(str(keys[CITATION]))
    try:
        spelt = userkeys.read_projected(keys, name) if projected else userkeys.read_geographic(keys, name)
    except InputError:  # of a code or a number that makes no sense
        return unresolved
    return spelt or unresolved


def frame_tags(frame: Frame) -> dict[int, tuple[int, Any]]:
    """Tags (number -> field type and values) that say where `frame` lies."""
    a = frame.affine
    written: dict[int, tuple[int, Any]] = {}
    if frame.crs is None and a == Affine(0.0, 0.0, 1.0, -1.0):
        return written
    if frame.north_up:
        written[tags.MODEL_PIXEL_SCALE] = tags.DOUBLE, [a.x_col, -a.y_row, 0.0]
        written[tags.MODEL_TIEPOINT] = tags.DOUBLE, [0.0, 0.0, 0.0, a.x0, a.y0, 0.0]
    else:
        matrix = [a.x_col, a.x_row, 0, a.x0, a.y_col, a.y_row, 0, a.y0, 0, 0, 0, 0, 0, 0, 0, 1]
        written[tags.MODEL_TRANSFORMATION] = tags.DOUBLE, matrix
    written |= _key_tags(frame)
    return written


def _key_tags(frame: Frame) -> dict[int, tuple[int, Any]]:
    """The key directory in ascending order, and the numbers and texts that it points into."""
    keys: dict[int, int | float | str] = {RASTER_TYPE: POINT if frame.registration == "node" else AREA}
    if frame.crs is not None:
        keys |= _crs_keys(frame.crs)
    rows: list[list[int]] = []
    doubles: list[float] = []
    text = ""
    for key, value in sorted(keys.items()):
        if isinstance(value, str):
            value = value.replace("|", "/") + "|"
            rows.append([key, tags.GEO_ASCII_PARAMS, len(value), len(text)])
            text += value
        elif isinstance(value, float):
            rows.append([key, tags.GEO_DOUBLE_PARAMS, 1, len(doubles)])
            doubles.append(value)
        else:
            rows.append([key, 0, 1, value])
    header = [1, 1, 1, len(rows)]
    made: dict[int, tuple[int, Any]] = {
        tags.GEO_KEY_DIRECTORY: (tags.SHORT, np.array([header, *rows]).ravel().tolist())
    }
    if doubles:
        made[tags.GEO_DOUBLE_PARAMS] = tags.DOUBLE, doubles
    if text:
        made[tags.GEO_ASCII_PARAMS] = tags.ASCII, text
    return made


def _crs_keys(crs: CRS) -> dict[int, int | float | str]:
    geographic = isinstance(crs, GeographicCRS) or (isinstance(crs, UnresolvedCRS) and crs.unit == DEGREE)
    kind, name, units = (
        (GEODETIC_CRS, GEODETIC_CITATION, ANGULAR_UNITS)
        if geographic
        else (PROJECTED_CRS, PROJECTED_CITATION, LINEAR_UNITS)
    )
    # codes of GeoTIFF have 16 bits
    code = crs.code if crs.code and crs.code < USER_DEFINED else USER_DEFINED
    keys: dict[int, int | float | str] = {MODEL_TYPE: GEOGRAPHIC if geographic else PROJECTED}
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
