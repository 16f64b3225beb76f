"""DTED, levels 0, 1 and 2 (`.dt0`, `.dt1`, `.dt2`): heights of a one-degree cell, meridian by meridian.

Source: MIL-PRF-89020B, "Performance Specification, Digital Terrain Elevation Data": User Header Label (80
bytes), Data Set Identification (648) and Accuracy Description (2,700) records, then one data record for each
meridian from the west (3.13.4): a sentinel, counts, heights from the south in signed magnitude, and a
checksum. -32767 is void. Meridians are 1 to 6 times as far apart as parallels, by latitude (table I).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.formats.degreecell import corner_named, corner_of, degree_cell, no_cell
from zembrel.formats.sink import Sink
from zembrel.formats.whole import only_layer, whole_sink
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Block, Cells, Raster
from zembrel.raster.views.nodata import nodata_mask

VOID = -32767
_UHL, _DSI, _ACC = 80, 648, 2700
_DATA = _UHL + _DSI + _ACC
_SENTINEL, _HEAD, _TAIL = 0xAA, 8, 4
_SECONDS = {0: 30, 1: 3, 2: 1}  # between parallels, by level
_WIDER = ((50, 1), (70, 2), (75, 3), (80, 4), (90, 6))  # meridians below a latitude, table I
_LOWEST = -16_000  # deeper than any height: negative numbers that a writer gave as complements

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The cell at `path`. Raises InputError if its labels or its size are wrong."""
    size = file_handles.renew(path).size
    head = file_handles.read(path, 0, _DATA)
    if len(head) < _DATA or head[:4] != b"UHL1" or head[_UHL : _UHL + 3] != b"DSI":
        raise _broken(path, "its labels are not whole")
    try:
        west, south = _angle(head[4:12]), _angle(head[12:20])
        across, along = (Fraction(int(head[n : n + 4]), 36_000) for n in (20, 24))
        columns, rows = int(head[47:51]), int(head[51:55])
    except ValueError as exc:
        raise _broken(path, f"its first label says {head[4:55].decode('ascii', 'replace')!r}") from exc
    if min(across, along) <= 0 or min(columns, rows) < 2:
        raise _broken(path, f"its first label says {columns} x {rows} nodes")
    due = _DATA + columns * (_HEAD + 2 * rows + _TAIL)
    if size < due:
        raise _broken(path, f"it has {size:,} bytes where {columns} x {rows} nodes make {due:,}")
    top = south + (rows - 1) * along
    affine = Affine(float(west), float(top), float(across), -float(along))
    frame = Frame(by_code(4326), affine, columns, rows, "node")
    return DtedCells(path, frame, (Band("height", "int16", VOID, unit="m"),))


def _angle(text: bytes) -> Fraction:
    """Degrees of DDDMMSSH. Raises ValueError."""
    words = text.decode("ascii")
    degrees, minutes, seconds, side = int(words[:-5]), int(words[-5:-3]), int(words[-3:-1]), words[-1]
    if side not in "NSEW":
        raise ValueError(words)
    return Fraction(degrees * 3600 + minutes * 60 + seconds, 3600) * (-1 if side in "SW" else 1)


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound DTED cell", why, "get the file again, or leave it out")


@dataclass(frozen=True, eq=False)
class DtedCells:
    """Heights of a cell; a pane reads the meridians it touches and checks their sums."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if a record is broken."""
        length = _HEAD + 2 * self.frame.rows + _TAIL
        data = file_handles.read(self.path, _DATA + pane.left * length, pane.columns * length)
        if len(data) != pane.columns * length:
            raise _broken(self.path, "it has become shorter while it was read")
        records = np.frombuffer(data, np.uint8).reshape(pane.columns, length)
        sums = records[:, :-_TAIL].sum(axis=1, dtype=np.int64)
        told = records[:, -_TAIL:].copy().view(">u4")[:, 0]
        bad = np.flatnonzero((sums != told) | (records[:, 0] != _SENTINEL))
        if bad.size:
            raise _broken(self.path, f"the checksum of meridian {pane.left + int(bad[0]) + 1} does not hold")
        heights = _from_magnitude(records[:, _HEAD:-_TAIL].copy().view(">u2"))
        cells = np.ascontiguousarray(heights.T[::-1][pane.top : pane.bottom])[None]
        valid = nodata_mask(cells, self.bands)
        return Block(cells, None if valid is None or valid.all() else valid)


def _from_magnitude(codes: Cells) -> Cells:
    """Heights of 16-bit codes whose first bit is the sign."""
    whole = codes.astype(np.int32)
    heights = np.where(whole & 0x8000, -(whole & 0x7FFF), whole)
    complement = (heights < _LOWEST) & (heights != VOID)
    return np.where(complement, whole - 0x10000, heights).astype(np.int16)


def _times_wider(south: int) -> int:
    """How many times as far apart as parallels the meridians of a cell are (table I)."""
    farthest = max(abs(south), abs(south + 1)) if south < 0 else abs(south)
    return next(times for limit, times in _WIDER if farthest < limit or limit == 90)


def frame_of_name(path: Path, finest: float) -> Frame | None:
    """The cell that `path` is named after, its nodes as far apart as the level and the latitude say."""
    corner = corner_named(path)
    if corner is None:
        return None
    seconds = _SECONDS[int(path.suffix[-1])]
    wider = _times_wider(corner[1])
    return degree_cell(*corner, 3600 // (seconds * wider) + 1, 3600 // seconds + 1)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a whole cell of the level that the ending of `path` says. Raises RefusedError otherwise."""
    level = int(path.suffix[-1])
    corner, seconds = corner_of(frame), _SECONDS[level]
    a = frame.affine
    south = corner[1] if corner else round(a.y0 + (frame.rows - 1) * a.y_row)
    wider = _times_wider(south)
    columns, rows = 3600 // (seconds * wider) + 1, 3600 // seconds + 1
    if corner is None or (frame.columns, frame.rows) != (columns, rows):
        step = f"{seconds * wider}arcsec/{seconds}arcsec"
        raise no_cell(path, frame, step, f"{columns} x {rows} nodes at level {level} there")
    labels = _labels(corner, level, (seconds * wider, seconds), (columns, rows))

    def write(cells: Cells, valid: Cells | None) -> None:
        heights = cells[:, :, 0] if valid is None else np.where(valid, cells[:, :, 0], np.int16(VOID))
        path.write_bytes(labels + _records(heights))

    return whole_sink(frame, bands, write)


def _records(heights: Cells) -> bytes:
    """The data records of heights (rows from the north, columns)."""
    rows, columns = heights.shape
    records = np.zeros((columns, _HEAD + 2 * rows + _TAIL), np.uint8)
    records[:, 0] = _SENTINEL
    counts = np.arange(columns)
    records[:, 1:4] = counts.astype(">u4")[:, None].view(np.uint8)[:, 1:]
    records[:, 4:6] = counts.astype(">u2")[:, None].view(np.uint8)
    whole = heights[::-1].T.astype(np.int32)
    codes = np.where(whole < 0, 0x8000 | -whole, whole).astype(">u2")
    records[:, _HEAD:-_TAIL] = np.ascontiguousarray(codes).view(np.uint8)
    sums = records[:, :-_TAIL].sum(axis=1, dtype=np.int64).astype(">u4")
    records[:, -_TAIL:] = sums[:, None].view(np.uint8)
    return records.tobytes()


def _labels(corner: tuple[int, int], level: int, seconds: tuple[int, int], size: tuple[int, int]) -> bytes:
    """The three labels, blank or zero where nothing is known."""
    west, south = corner
    lon, lat = _degrees(west, 3, "EW"), _degrees(south, 2, "NS")
    east, north = _degrees(west + 1, 3, "EW"), _degrees(south + 1, 2, "NS")
    (across, along), (columns, rows) = seconds, size
    user = f"UHL1{lon:0>8}{lat:0>8}{across * 10:04}{along * 10:04}NA  U  {'':12}{columns:04}{rows:04}0{'':24}"
    origin = f"{lat[:-1]}.0{lat[-1]}{lon[:-1]}.0{lon[-1]}"
    corners = lat + lon + north + lon + north + east + lat + east
    data: Any = (
        f"DSIU{'':2}{'':27}{'':26}DTED{level}{'':15}{'':8}01A0000{'0000'}0000{'':8}{'':16}PRF89020B00"
        f"0000MSLWGS84{'':10}0000{'':22}{origin}{corners}0000000.0"
        f"{along * 10:04}{across * 10:04}{rows:04}{columns:04}00{'':101}{'':100}{'':156}"
    )
    accuracy = f"ACC{'NA  ' * 4}{'':4}{'':1}{'':31}00{'':2647}"
    return b"".join(
        text.encode("ascii").ljust(length)[:length]
        for text, length in ((user, _UHL), (data, _DSI), (accuracy, _ACC))
    )


def _degrees(value: int, digits: int, sides: str) -> str:
    return f"{abs(value):0{digits}}0000{sides[value < 0]}"
