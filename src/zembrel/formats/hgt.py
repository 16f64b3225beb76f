"""One-degree height cells (`.hgt`): 1201 x 1201 or 3601 x 3601 heights in metres, named by their corner.

Source: NASA, "SRTM Topography" (SRTM documentation, version 2.1): signed 16-bit integers, most significant
byte first, row by row from the north; nodes on whole arc-seconds (1 or 3 of them apart) of WGS 84, the outer
ones on the degrees that bound the cell; -32768 is void. `N46W024.hgt` has its lower left node at 46 N, 24 W.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.degreecell import cell_name, corner_of, degree_cell, no_cell
from zembrel.formats.handles import file_handles
from zembrel.formats.raw import RawCells, RawLayout, RawSink
from zembrel.formats.sink import Sink
from zembrel.formats.whole import only_layer
from zembrel.grid.frame import Frame
from zembrel.raster.model import Band, Raster

VOID = -32768
SIZES = (1201, 3601)
_NAME = re.compile(r"([NS])(\d\d)([EW])(\d\d\d)", re.IGNORECASE)

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The cell at `path`. Raises InputError if its name or its size is that of none."""
    found = _NAME.match(path.name)
    if not found:
        raise InputError(
            f"{path.name} does not say where it is", "a height cell is named like N46W024.hgt", "rename it"
        )
    south = int(found[2]) * (-1 if found[1] in "sS" else 1)
    west = int(found[4]) * (-1 if found[3] in "wW" else 1)
    if not (-90 <= south < 90 and -180 <= west < 180):
        raise InputError(f"{path.name} would be off the Earth", f"at {west} E, {south} N", "rename it")
    size = file_handles.renew(path).size
    side = next((side for side in SIZES if 2 * side * side == size), None)
    if side is None:
        due = " or ".join(f"{2 * side * side:,}" for side in SIZES)
        raise InputError(
            f"{path} is no whole height cell", f"it has {size:,} bytes, not {due}", "get the file again"
        )
    band = Band("height", "int16", VOID, unit="m")
    layout = RawLayout(np.dtype(">i2"), 0, 0, 2 * side, 2)
    return RawCells(path, degree_cell(west, south, side, side), (band,), layout)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a whole cell. Raises RefusedError, with the way there, for any other frame or name."""
    corner = corner_of(frame) if frame.columns == frame.rows and frame.columns in SIZES else None
    if corner is None:
        step = "3arcsec" if frame.columns == SIZES[0] else "1arcsec"
        raise no_cell(path, frame, step, "1201 or 3601 nodes a side")
    name = cell_name(*corner)
    if path.stem.upper() != name:
        raise UsageError(
            f"{path.name} is not the name of this cell",
            "programs find a height cell by its name",
            f"name it {name}.hgt",
        )
    return RawSink(path, frame, (Band("height", "int16", VOID),), np.dtype(">i2"))
