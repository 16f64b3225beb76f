"""GTX grids: heights of one vertical surface above another at nodes of a lattice of longitude and latitude.

Source: NOAA NGS, VDatum documentation, file format ".gtx": south, west, step north, step east (doubles),
rows, columns (4-byte integers), then rows from the south of 4-byte floats, all in big-endian order; -88.8888
is void.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.sink import Sink
from zembrel.formats.whole import WholeRaster, only_layer, whole_sink
from zembrel.geodesy.crs import GeographicCRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.units import DEGREE
from zembrel.grid.frame import Affine, Frame
from zembrel.handles import cannot_read
from zembrel.raster.model import Band, Cells, Raster

_HEADER = struct.Struct(">4d2i")
_VOID = float(np.float32(-88.8888))
_WGS_84 = 4326

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid at `path`, its values in metres. Raises InputError if it is none, or not whole."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(_HEADER.size)
    except OSError as exc:
        raise cannot_read(path, exc) from exc
    if len(head) < _HEADER.size:
        raise _broken(path, "its header is not whole")
    south, west, down, across, rows, columns = _HEADER.unpack(head)
    sizes = f"{columns} x {rows} nodes, {across:g} x {down:g} degrees apart, from {west:g},{south:g}"
    if not (rows > 0 and columns > 0 and 0 < across <= 360 and 0 < down <= 180):
        raise _broken(path, f"its header says {sizes}")
    if not (math.isfinite(west) and -90 - down <= south <= 90 and south + (rows - 1) * down <= 90 + down):
        raise _broken(path, f"its header says {sizes}")
    if size != _HEADER.size + 4 * rows * columns:
        due = _HEADER.size + 4 * rows * columns
        raise _broken(path, f"it has {size:,} bytes where {columns} x {rows} nodes make {due:,}")
    affine = Affine(west, south + (rows - 1) * down, across, -down)
    frame = Frame(by_code(_WGS_84), affine, columns, rows, "node")
    return WholeRaster(path, frame, (Band("height", "float32", _VOID, unit="m"),), _decoded)


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no GTX grid, or a broken one", why, "get the file again, or leave it out")


def _decoded(path: Path) -> Cells:
    with path.open("rb") as file:
        rows, columns = _HEADER.unpack(file.read(_HEADER.size))[4:]
        values = np.fromfile(file, ">f4", rows * columns).reshape(rows, columns, 1)
    return np.ascontiguousarray(values[::-1].astype(np.float32))


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a grid in degrees. Raises UsageError for a frame of anything else."""
    if not isinstance(frame.crs, GeographicCRS) or frame.crs.unit != DEGREE or not frame.north_up:
        raise UsageError(
            f"{path.name} would not be in degrees",
            "a GTX grid is a lattice of longitude and latitude",
            "reproject with --crs EPSG:4326 first, or write a GeoTIFF",
        )
    own = (replace(bands[0], nodata=_VOID),)

    def write(cells: Cells, valid: Cells | None) -> None:
        x, y = frame.centres(np.array([0]), np.array([frame.rows - 1]))
        steps = -frame.affine.y_row, frame.affine.x_col
        values = cells[:, :, 0] if valid is None else np.where(valid, cells[:, :, 0], _VOID)
        with path.open("wb") as file:
            file.write(_HEADER.pack(float(y[0]), float(x[0]), *steps, frame.rows, frame.columns))
            file.write(values[::-1].astype(">f4").tobytes())

    return whole_sink(frame, own, write)
