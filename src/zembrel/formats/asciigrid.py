"""ASCII grids: a header of keys and numbers, then the values of a grid row by row from the north.

Source: the format as publicly described by many who publish grids in it: `ncols`, `nrows`, `xllcorner` and
`yllcorner` (edges of the lower left cell) or `xllcenter` and `yllcenter` (its middle: values on nodes here),
`cellsize` (or `dx` and `dy`), and `nodata_value` (or `nodata`), in any case and order. Values are separated
by any white space and need not keep to lines. The CRS is in a `.prj` beside. Whole numbers of up to 9
digits are read as int32; others as float32 if none has more than 7 digits, else as float64.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.formats import numbertext
from zembrel.formats.gridkeys import GridHeader, header_text, read_header
from zembrel.formats.numberkind import check_tellable
from zembrel.formats.sink import FileStore, Sink
from zembrel.formats.whole import only_layer
from zembrel.formats.worldfile import crs_beside
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Block, Cells, Raster, shared_type
from zembrel.raster.views.nodata import nodata_mask

VOID = -9999  # nodata, where a result has none of its own
_MOST_HEADER, _CHUNK, _STRIP = 4_096, 8_000_000, 256
_SHORT, _INT_DIGITS = 7, 9  # digits that float32 and int32 hold
_ODD = 1_000  # words in a pane that may need a longer look before room is made for more

layers = only_layer


class Index(NamedTuple):
    """Byte at which each row begins, (rows + 1,), and the type of the values."""

    starts: npt.NDArray[np.int64]
    type: str


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid at `path`. Raises InputError naming what its header lacks or its values break."""
    file_handles.renew(path)
    header = read_header(path, file_handles.read(path, 0, _MOST_HEADER), _broken)
    frame = header.frame(path, crs_beside(path))
    index = _indexed(path, header, frame.columns, frame.rows)
    return AsciiGrid(path, frame, (Band("band1", index.type, _nodata(header, index.type)),), index)


def _nodata(header: GridHeader, kind: str) -> float | int | None:
    try:
        value = float(header.nodata) if header.nodata is not None else None
    except ValueError:
        return None
    if value is None or (kind == "int32" and not value.is_integer()):
        return None
    return int(value) if kind == "int32" else float(np.dtype(kind).type(value))


def _indexed(path: Path, header: GridHeader, columns: int, rows: int) -> Index:
    """One pass over the text: where rows begin, however lines are broken, and what numbers it holds."""
    size = path.stat().st_size
    if rows * columns > (size - header.end + 1) // 2:  # a digit and a blank each
        raise _broken(path, f"its {size:,} bytes cannot hold {columns:,} x {rows:,} values")
    starts = np.full(rows + 1, -1, np.int64)
    starts[rows] = size
    state, at = np.array([0, 0, 1, 0, 0], np.int64), header.end
    while data := file_handles.read(path, at, _CHUNK):
        numbertext.scan(np.frombuffer(data, np.uint8), state, columns, starts, at)
        at += len(data)
    seen, _, whole, _, longest = state.tolist()
    if seen != rows * columns:
        raise _broken(path, f"it holds {seen:,} values where {columns:,} x {rows:,} make {rows * columns:,}")
    if whole:
        return Index(starts, "int32" if longest <= _INT_DIGITS else "float64")
    return Index(starts, "float32" if longest <= _SHORT else "float64")


@dataclass(frozen=True, eq=False)
class AsciiGrid:
    """The values of an ASCII grid; a pane reads the text of its rows."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    index: Index

    @cached_property
    def block_shape(self) -> tuple[int, int]:
        """Whole rows are read best."""
        return max(1, min(_STRIP, self.frame.rows)), self.frame.columns

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if something there is no number."""
        start, end = int(self.index.starts[pane.top]), int(self.index.starts[pane.bottom])
        text = file_handles.read(self.path, start, end - start)
        values = self._values(np.frombuffer(text, np.uint8), text, pane).astype(self.index.type)
        cells = np.ascontiguousarray(values.reshape(1, pane.rows, -1)[:, :, pane.left : pane.right])
        valid = nodata_mask(cells, self.bands)
        return Block(cells, None if valid is None or valid.all() else valid)

    def _values(self, raw: npt.NDArray[np.uint8], text: bytes, pane: Pane) -> npt.NDArray[np.float64]:
        """All numbers of the rows of `pane`. Raises InputError naming the first word that is none."""
        values, odd = np.empty(pane.rows * self.frame.columns), np.empty((_ODD, 3), np.int64)
        count, strange = numbertext.values(raw, values, odd)
        if count != values.size:
            raise _broken(self.path, f"rows {pane.top + 1} to {pane.bottom} hold {count:,} values")
        if strange > _ODD:
            odd = np.empty((strange, 3), np.int64)
            numbertext.values(raw, values, odd)
        for number, first, last in odd[:strange].tolist():
            try:
                values[number] = float(text[first:last])
            except ValueError as exc:
                row, column = divmod(number, self.frame.columns)
                word = text[first:last].decode("ascii", "replace")[:20]
                place = f"row {pane.top + row + 1}, column {column + 1}"
                raise _broken(self.path, f"{word!r} in {place} is no number") from exc
        return values


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is no sound ASCII grid", why, "get the file again, or correct it")


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for one band on a north-up frame. Raises UsageError for a turned one."""
    if not frame.north_up:
        raise UsageError(
            f"{path.name} would be turned", "an ASCII grid lies north up", "reproject it onto a frame first"
        )
    nodata = bands[0].nodata
    declared = nodata is not None and nodata == nodata
    encoder = AsciiEncoder(nodata if nodata is not None and declared else VOID, declared)
    whole = shared_type(bands[:1]).kind in "iu"
    head = header_text(frame, encoder.void, whole=whole).encode("ascii")
    return Sink(tuple(frame.pane.blocks(_STRIP, frame.columns)), encoder, FileStore(path, head))


@dataclass(frozen=True)
class AsciiEncoder:
    """Strips of rows as text, each value as short as reads back identical.

    void: the value that means nothing; declared: whether the band says so.
    """

    void: float | int
    declared: bool

    def encode(self, pane: Pane, block: Block) -> bytes:
        import orjson

        check_tellable(block)
        cells: Cells = block.cells[0]
        if not self.declared and np.any(cells[block.valid_of(0)] == VOID):
            raise RefusedError(
                f"valid cells hold {VOID}",
                "an ASCII grid says by a value where nothing is, and this is the usual one",
                "choose another with --nodata",
            )
        if block.valid is not None:
            wide = cells.astype(np.int64) if cells.dtype.kind in "iu" else cells
            cells = np.where(block.valid_of(0), wide, wide.dtype.type(self.void))
        lines = orjson.dumps(np.ascontiguousarray(cells), option=orjson.OPT_SERIALIZE_NUMPY)
        return lines[2:-2].replace(b"],[", b"\n").translate(_SPACED) + b"\n"


_SPACED = bytes.maketrans(b",", b" ")
