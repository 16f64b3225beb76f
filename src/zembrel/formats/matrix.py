"""A matrix of numbers as text: a line for each row of a grid, from the north, without coordinates.

Source: no standard; as spreadsheets and array packages exchange it. Its place is in a world file and a
`.prj` beside. Empty fields and `nan` are invalid.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrel.formats.blockcache import block_cache
from zembrel.formats.columns import Dialect, dialect_of, tables
from zembrel.formats.numberkind import NumberKind, check_tellable
from zembrel.formats.sidecars import placed_beside
from zembrel.formats.sink import FileStore, Sink
from zembrel.formats.whole import only_layer
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Block, Cells, Raster

_STRIP = 128

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The matrix at `path`. Raises InputError, with the line, if its lines differ in length."""
    dialect = dialect_of(path)
    kind, rows = NumberKind(), 0
    for table in tables(path, dialect):
        kind.see(table.ravel())
        rows += len(table)
    placed = placed_beside(path, dialect.width, rows)
    return Matrix(path, placed.frame, (Band("band1", kind.type),), dialect, placed.remarks)


@dataclass(frozen=True, eq=False)
class Matrix:
    """The numbers of a text, read as a whole when first asked for."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    dialect: Dialect
    remarks: tuple[str, ...] = ()

    def cells(self, pane: Pane) -> Block:
        whole = block_cache.get((self.path, file_handles.renew(self.path)), self._decoded)
        part = whole[pane.within(self.frame.pane)][None]
        valid = ~np.isnan(part)
        return Block(np.where(valid, part, 0).astype(self.bands[0].type), None if valid.all() else valid)

    def _decoded(self) -> Cells:
        return np.concatenate(list(tables(self.path, self.dialect)))


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for lines of comma-separated values."""
    return Sink(tuple(frame.pane.blocks(_STRIP, frame.columns)), MatrixEncoder(), FileStore(path))


@dataclass(frozen=True)
class MatrixEncoder:
    """A line for each row, each number as short as reads back identical."""

    def encode(self, pane: Pane, block: Block) -> bytes:
        import orjson

        check_tellable(block)
        cells = np.ascontiguousarray(block.cells[0])
        text = orjson.dumps(cells, option=orjson.OPT_SERIALIZE_NUMPY)[2:-2].replace(b"],[", b"\n")
        text = text.replace(b"null", b"nan")
        if block.valid is None:
            return text + b"\n"
        lines = [line.split(b",") for line in text.split(b"\n")]
        for row, column in np.argwhere(~block.valid_of(0)):
            lines[row][column] = b"nan"
        return b"\n".join(b",".join(line) for line in lines) + b"\n"
