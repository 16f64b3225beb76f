"""GeoTIFF: transform tags and keys <-> frame.

Source: OGC GeoTIFF Standard 1.1 (19-008r4), chapters 7 and annex B.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import tags
from zembrel.formats.tiff.directory import Directory, broken
from zembrel.geodesy import geokeys
from zembrel.grid.frame import Affine, Frame

AREA, POINT = 1, 2


def read_frame(directory: Directory, width: int, height: int) -> Frame | None:
    """The frame of an image of `width` x `height` cells, or None if it is not georeferenced."""
    affine = _read_affine(directory)
    if affine is None:
        return None
    text = directory.values(tags.GEO_ASCII_PARAMS).tobytes().decode("utf-8", "replace")
    doubles = directory.values(tags.GEO_DOUBLE_PARAMS)
    keys = geokeys.unpack(directory.values(tags.GEO_KEY_DIRECTORY), doubles, text)
    registration = "node" if keys.get(geokeys.RASTER_TYPE) == POINT else "cell"
    return Frame(geokeys.crs_of(keys), affine, width, height, registration)


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
    keys: geokeys.Keys = {geokeys.RASTER_TYPE: POINT if frame.registration == "node" else AREA}
    if frame.crs is not None:
        keys |= geokeys.keys_of(frame.crs)
    packed = geokeys.pack(keys)
    made: dict[int, tuple[int, Any]] = {tags.GEO_KEY_DIRECTORY: (tags.SHORT, packed.directory)}
    if packed.doubles:
        made[tags.GEO_DOUBLE_PARAMS] = tags.DOUBLE, packed.doubles
    if packed.text:
        made[tags.GEO_ASCII_PARAMS] = tags.ASCII, packed.text
    return made
