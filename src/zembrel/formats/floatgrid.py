"""Binary grids with a text label (`.flt` and `.hdr`): 32-bit floats row by row from the north.

Source: the label has the keys of an ASCII grid (see `gridkeys`) and `byteorder`, LSBFIRST or MSBFIRST, as
publicly described by many who publish grids in it. The CRS is in a `.prj` beside.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.gridkeys import header_text as keys_of
from zembrel.formats.gridkeys import read_header
from zembrel.formats.raw import ORDERS, RawCells, beside, order_of, raw_sink
from zembrel.formats.sink import Sink
from zembrel.formats.strided import RawLayout
from zembrel.formats.whole import only_layer
from zembrel.formats.worldfile import crs_beside
from zembrel.grid.frame import Frame
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Raster

VOID = -9999
_MOST_HEADER = 65_536

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid at `path`. Raises InputError without a label, or for one that does not fit the file."""
    size = file_handles.renew(path).size
    label = beside(path, ".hdr")
    header = read_header(path, file_handles.read(label, 0, _MOST_HEADER), _broken)
    frame = header.frame(path, crs_beside(path))
    order = ORDERS.get(header.order or "lsbfirst")
    if order is None:
        raise _broken(path, f"its label says byteorder {header.order}")
    if size < 4 * frame.size:
        raise _broken(path, f"it has {size:,} bytes where its label makes {4 * frame.size:,}")
    try:
        nodata = None if header.nodata is None else float(np.float32(float(header.nodata)))
    except ValueError:
        nodata = None
    layout = RawLayout(np.dtype(f"{order}f4"), 0, 0, 4 * frame.columns, 4)
    return RawCells(path, frame, (Band("band1", "float32", nodata),), layout)


def _broken(path: Path, why: str) -> InputError:
    return InputError(
        f"{path} is no sound binary grid", why, "get the file and its label again, or correct them"
    )


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for one band of floats. Raises UsageError for a turned frame."""
    if not frame.north_up:
        raise UsageError(
            f"{path.name} would be turned", "a binary grid lies north up", "reproject it onto a frame first"
        )
    return raw_sink(path, frame, bands, np.dtype(f"{order_of(settings)}f4"))


def header_text(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> str:
    """The label beside the file at `path`."""
    order = "LSBFIRST" if order_of(settings) == "<" else "MSBFIRST"
    nodata = bands[0].nodata
    return keys_of(frame, VOID if nodata is None else nodata, whole=False) + f"byteorder {order}\n"
