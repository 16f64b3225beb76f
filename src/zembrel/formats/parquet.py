"""Parquet tables of cells: columns x, y and one for each band, a row for each cell that is valid somewhere.

Source: Apache Parquet format 2, by way of the Arrow package. The metadata key `zembrel` holds the frame as a
frame file does, so that a table of ours comes back to the last bit, CRS and registration included; tables
of others get the lattice that their coordinates lie on. Nulls and absent cells are invalid.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.formats.blockcache import block_cache
from zembrel.formats.cells import coordinate_columns, rows_of
from zembrel.formats.lattice import lattice_of, placed
from zembrel.formats.scattered import HeldCells, PlacedCells
from zembrel.formats.sink import Sink
from zembrel.formats.whole import only_layer
from zembrel.formats.worldfile import crs_beside
from zembrel.grid.frame import Frame
from zembrel.grid.framefile import frame_from, frame_table
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.nested import json_of
from zembrel.raster.model import TYPES, Band, Block, Cells, Mask, Raster

_STRIP_CELLS = 1_000_000

layers = only_layer


def _own_words(schema: Any) -> dict[str, Any]:
    """What we have said of a table of ours; nothing where that cannot be read."""
    try:
        found = json_of((schema.metadata or {}).get(b"zembrel", b"{}"))
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


def open_raster(path: Path, layer: str | None) -> Raster:
    """The table at `path`. Raises InputError if it has no coordinates or they are no grid."""
    import pyarrow.parquet as pq

    file_handles.renew(path)
    with _decoding(path):
        file = pq.ParquetFile(path)
        schema = file.schema_arrow
    plain = [f.name for f in schema if _type(f.type) is not None]
    columns = coordinate_columns(tuple(plain), len(plain))
    if columns is None:
        raise InputError(
            f"{path} holds no cells",
            f"its columns of numbers are {', '.join(plain) or 'none'}; x, y and a value are needed",
            "name its coordinates x and y",
        )
    x, y = (plain[n] for n in columns)
    own = _own_words(schema)
    names = tuple(name for name in plain if name not in (x, y))
    frame = _own_frame(path, own) or _found_frame(path, file, x, y)
    facts = own.get("bands", {})
    bands = tuple(
        Band(name, str(_type(schema.field(name).type)), unit=facts.get(name, {}).get("unit", ""))
        for name in names
    )
    return ParquetCells(path, frame, bands, (x, y))


def _type(arrow: Any) -> str | None:
    try:
        name = np.dtype(arrow.to_pandas_dtype()).name
    except (NotImplementedError, TypeError):
        return None
    return name if name in TYPES else None


def _own_frame(path: Path, own: Mapping[str, Any]) -> Frame | None:
    return frame_from(path, own["frame"]) if "frame" in own else None


def _found_frame(path: Path, file: Any, x: str, y: str) -> Frame:
    xs, ys = np.empty(0), np.empty(0)
    with _decoding(path):
        for batch in file.iter_batches(columns=[x, y]):
            xs, ys = np.union1d(xs, _numbers(batch, x)[0]), np.union1d(ys, _numbers(batch, y)[0])
    if not (np.isfinite(xs).all() and np.isfinite(ys).all()):
        raise InputError(
            f"{path} has cells without coordinates", f"{x} or {y} is null there", "leave them out"
        )
    return lattice_of(path, xs, ys, crs_beside(path), file.metadata.num_rows)


def _numbers(batch: Any, name: str) -> tuple[Cells, Mask]:
    """The values of a column, (n,), and which of them are not null."""
    column = batch.column(name)
    known = np.asarray(column.is_valid())
    kind = np.dtype(column.type.to_pandas_dtype())
    return column.fill_null(0).to_numpy(zero_copy_only=False).astype(kind, copy=False), known


@contextmanager
def _decoding(path: Path) -> Iterator[None]:
    """What the package objects to as an InputError about `path`."""
    import pyarrow as pa

    try:
        yield
    except (pa.ArrowException, OSError, ValueError, IndexError) as exc:
        why = f"{exc}".partition("\n")[0]
        raise InputError(f"{path} is broken", why, "get the file again, or leave it out") from exc


@dataclass(frozen=True, eq=False)
class ParquetCells:
    """Cells of a table, put in their places as a whole when first asked for."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    places: tuple[str, str]

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if the table cannot be decoded."""
        stamp = file_handles.renew(self.path)
        part = block_cache.get((self.path, stamp), self._decoded).part(pane)
        count = len(self.bands)
        kind = np.result_type(*(band.dtype for band in self.bands))
        cells, valid = part[:count].astype(kind), part[count:].astype(bool)
        return Block(cells, None if valid.all() else valid)

    def _decoded(self) -> HeldCells:
        """Cells and then validity of each band."""
        import pyarrow.parquet as pq

        kind = np.result_type(*(band.dtype for band in self.bands))
        with _decoding(self.path):
            file = pq.ParquetFile(self.path)
            chunks = (self._chunk(batch, kind) for batch in file.iter_batches())
            layers, count = 2 * len(self.bands), file.metadata.num_rows
            return HeldCells(self.frame, layers, count, np.zeros((), kind), chunks)

    def _chunk(self, batch: Any, kind: np.dtype[Any]) -> PlacedCells:
        (x, _), (y, _) = (_numbers(batch, name) for name in self.places)
        held = [_numbers(batch, band.name) for band in self.bands]
        valid = [known & ~np.isnan(values.astype(float)) for values, known in held]
        values = np.stack([*(values for values, _ in held), *valid]).astype(kind)
        return PlacedCells(*placed(self.frame, x, y), values)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a table in Zstandard compression."""
    import pyarrow as pa

    fields = [("x", pa.float64()), ("y", pa.float64())]
    fields += [(band.name, pa.from_numpy_dtype(band.dtype)) for band in bands]
    own = {"frame": frame_table(frame), "bands": {band.name: {"unit": band.unit} for band in bands}}
    schema = pa.schema(fields, metadata={"zembrel": json.dumps(own)})
    rows = max(1, _STRIP_CELLS // frame.columns)
    blocks = tuple(frame.pane.blocks(rows, frame.columns))
    return Sink(blocks, ParquetEncoder(frame, schema), ParquetStore(path, schema))


@dataclass(frozen=True)
class ParquetEncoder:
    """A batch of rows for each strip."""

    frame: Frame
    schema: Any

    def encode(self, pane: Pane, block: Block) -> Any:
        import pyarrow as pa

        columns, known = rows_of(self.frame, pane, block)
        types = [field.type for field in self.schema]
        arrays = [pa.array(column) for column in columns[:2]]
        arrays += [
            pa.array(column.astype(kind.to_pandas_dtype()), kind, mask=~valid)
            for column, valid, kind in zip(columns[2:], known, types[2:], strict=True)
        ]
        return pa.record_batch(arrays, schema=self.schema)


class ParquetStore:
    """A file that gets a group of rows with each batch."""

    def __init__(self, path: Path, schema: Any) -> None:
        import pyarrow.parquet as pq

        self._writer = pq.ParquetWriter(path, schema, compression="zstd")

    def append(self, key: Any, encoded: Any) -> None:
        self._writer.write_batch(encoded)

    def finish(self) -> None:
        self._writer.close()

    def abort(self) -> None:
        self._writer.close()
