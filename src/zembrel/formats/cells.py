"""Tables of cells: a line for each valid one, with its coordinates and values.

XYZ (`.xyz`, columns without names) and CSV (`.csv`, named x, y and as the bands are). Source: no standard;
both are as widely exchanged. Cells come in any order; those that are not there are invalid, but for the first
and the last, which are always written, so that the extent is kept. x and y are the middles of cells, so that
node registration is not kept. A `.csv` whose first columns are no coordinates is
read as a matrix.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np

from zembrel.errors import InputError
from zembrel.formats import matrix
from zembrel.formats.blockcache import block_cache
from zembrel.formats.columns import Dialect, dialect_of, tables
from zembrel.formats.lattice import lattice_of, placed
from zembrel.formats.numberkind import NumberKind, check_tellable
from zembrel.formats.scattered import HeldCells, PlacedCells
from zembrel.formats.sink import FileStore, Sink
from zembrel.formats.whole import only_layer
from zembrel.formats.worldfile import crs_beside
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Block, Cells, Raster

_X = ("x", "lon", "long", "longitude", "easting", "east", "e")
_Y = ("y", "lat", "latitude", "northing", "north", "n")
_STRIP = 128

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The cells at `path`. Raises InputError if the text is no table or its places are no grid."""
    dialect = dialect_of(path)
    columns = coordinate_columns(dialect.names, dialect.width)
    if columns is None:
        if path.suffix.lower() == ".csv":
            return matrix.open_raster(path, layer)
        raise InputError(
            f"{path} has {dialect.width} column(s)",
            "x, y and at least one value are needed",
            "check its separators",
        )
    values = [n for n in range(dialect.width) if n not in columns]
    xs, ys, kinds = np.empty(0), np.empty(0), [NumberKind() for _ in values]
    count = 0
    for table in tables(path, dialect):
        count += len(table)
        xs = np.union1d(xs, table[:, columns[0]])
        ys = np.union1d(ys, table[:, columns[1]])
        for kind, column in zip(kinds, values, strict=True):
            kind.see(table[:, column])
    if not (np.isfinite(xs).all() and np.isfinite(ys).all()):
        raise InputError(f"{path} has cells without coordinates", "x or y is empty there", "leave them out")
    names = [dialect.names[n] if dialect.names else f"band{i}" for i, n in enumerate(values, 1)]
    types = np.result_type(*(kind.type for kind in kinds)).name
    bands = tuple(Band(name, types) for name in names)
    frame = lattice_of(path, xs, ys, crs_beside(path), count)
    return CellTable(path, frame, bands, dialect, (*columns, *values), count)


def coordinate_columns(names: tuple[str, ...], count: int) -> tuple[int, int] | None:
    """Which columns hold x and y: by their names, else the first two of three or four; None if none do."""
    if not names:
        return (0, 1) if count >= 3 else None
    lower = [name.lower().split("[")[0].split("(")[0].strip() for name in names]
    x, y = (next((lower.index(word) for word in words if word in lower), None) for words in (_X, _Y))
    return (x, y) if x is not None and y is not None and count > 2 else None


@dataclass(frozen=True, eq=False)
class CellTable:
    """Cells of a text table, put in their places as a whole when first asked for."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    dialect: Dialect
    columns: tuple[int, ...]  # of x, y and each band
    count: int  # lines

    def cells(self, pane: Pane) -> Block:
        key = self.path, file_handles.renew(self.path)
        part = block_cache.get(key, self._decoded).part(pane)
        valid = ~np.isnan(part)
        cells = np.where(valid, part, 0).astype(self._kind)
        return Block(cells, None if valid.all() else valid)

    @cached_property
    def _kind(self) -> np.dtype[np.generic]:
        return self.bands[0].dtype

    def _decoded(self) -> HeldCells:
        """All cells; NaN for those that are void."""
        chunks = (self._chunk(table[:, self.columns]) for table in tables(self.path, self.dialect))
        return HeldCells(self.frame, len(self.bands), self.count, np.array(np.nan), chunks)

    def _chunk(self, table: Array) -> PlacedCells:
        return PlacedCells(*placed(self.frame, table[:, 0], table[:, 1]), table[:, 2:].T)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for lines of x, y and values."""
    named = path.suffix.lower() != ".xyz"
    heads = ["x", "y", *(f'"{b.name}"' if "," in b.name else b.name for b in bands)]
    store = FileStore(path, (",".join(heads) + "\n").encode() if named else b"")
    encoder = CellEncoder(frame, b"," if named else b" ")
    return Sink(tuple(frame.pane.blocks(_STRIP, frame.columns)), encoder, store)


def rows_of(frame: Frame, pane: Pane, block: Block) -> tuple[list[Cells], Cells]:
    """x, y and the bands of the cells of `pane` that are valid in any band, and validity (bands, n).

    The first and the last cell of the frame are among them in any case, and the two beside the first, so that
    extent and cell size can be told from the places alone.
    """
    anywhere = block.anywhere.copy()
    if pane.top == 0:
        anywhere[0, :2] = anywhere[:2, 0] = True
    if pane.bottom == frame.rows:
        anywhere[-1, -1] = True
    rows, columns = np.nonzero(anywhere)
    x, y = frame.centres((columns + pane.left).astype(np.float64), (rows + pane.top).astype(np.float64))
    known = np.stack([block.valid_of(n)[anywhere] for n in range(len(block.cells))])
    return [x, y, *block.cells[:, anywhere]], known


@dataclass(frozen=True)
class CellEncoder:
    """A line for each cell, with `sign` between its numbers, each as short as reads back identical."""

    frame: Frame
    sign: bytes

    def encode(self, pane: Pane, block: Block) -> bytes:
        import orjson

        check_tellable(block)
        columns, known = rows_of(self.frame, pane, block)
        if not columns[0].size:
            return b""
        texts = [
            orjson.dumps(np.ascontiguousarray(column), option=orjson.OPT_SERIALIZE_NUMPY)[1:-1]
            .replace(b"null", b"nan")
            .split(b",")
            for column in columns
        ]
        for text, valid in zip(texts[2:], known, strict=True):
            for n in np.flatnonzero(~valid):
                text[n] = b"nan"
        return b"\n".join(map(self.sign.join, zip(*texts, strict=True))) + b"\n"
