"""One-degree height cells (`.hgt`): 1201 x 1201 or 3601 x 3601 heights in metres, named by their corner.

Source: NASA, "SRTM Topography" (SRTM documentation, version 2.1): signed 16-bit integers, most significant
byte first, row by row from the north; nodes on whole arc-seconds (1 or 3 of them apart) of WGS 84, the outer
ones on the degrees that bound the cell; -32768 is void. `N46W024.hgt` has its lower left node at 46 N, 24 W.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.degreecell import NAME, cell_name, corner_named, corner_of, degree_cell, no_cell
from zembrel.formats.raw import RawCells, raw_sink
from zembrel.formats.sink import Sink
from zembrel.formats.strided import RawLayout
from zembrel.formats.whole import only_layer
from zembrel.grid.frame import Frame
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Raster

VOID = -32768
SIZES = (1201, 3601)
_COARSE = 2 / 3600  # degrees between heights from which 1201 nodes a side hold them

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The cell at `path`. Raises InputError if its name or its size is that of none."""
    corner = corner_named(path)
    if corner is None:
        off = "is off the Earth" if NAME.match(path.name) else "does not say where it is"
        raise InputError(f"{path.name} {off}", "a height cell is named like N46W024.hgt", "rename it")
    size = file_handles.renew(path).size
    side = next((side for side in SIZES if 2 * side * side == size), None)
    if side is None:
        due = " or ".join(f"{2 * side * side:,}" for side in SIZES)
        raise InputError(
            f"{path} is no whole height cell", f"it has {size:,} bytes, not {due}", "get the file again"
        )
    band = Band("height", "int16", VOID, unit="m")
    layout = RawLayout(np.dtype(">i2"), 0, 0, 2 * side, 2)
    return RawCells(path, degree_cell(*corner, side, side), (band,), layout)


def frame_of_name(path: Path, finest: float) -> Frame | None:
    """The cell that `path` is named after, as fine as sources of `finest` degrees are."""
    corner = corner_named(path)
    side = SIZES[0] if finest >= _COARSE else SIZES[1]
    return None if corner is None else degree_cell(*corner, side, side)


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
    return raw_sink(path, frame, (Band("height", "int16", VOID),), np.dtype(">i2"))
