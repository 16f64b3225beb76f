"""NetCDF-4 with CF conventions (`.nc`), and HDF5 datasets by path (`.h5`): both are HDF5 inside. Version 3 is
read by `netcdf3`.

Source: "The NetCDF-4 file format" (Unidata, NetCDF User's Guide, appendix B) by way of the h5netcdf and HDF5
packages; CF 1.11 (see `cf`). Bands are variables on one pair of axes, in chunks of 512 x 512 compressed by
Deflate after a byte shuffle. A variable with one more dimension is read as a band for each place along it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel import provenance
from zembrel.damaged import DAMAGED
from zembrel.errors import InputError, UsageError
from zembrel.formats import netcdf3
from zembrel.formats.cf.attributes import band_attributes
from zembrel.formats.cf.axes import BANDS, FRAME, axes_of, frame_text
from zembrel.formats.cf.cflayout import EDGE, Spread, WrittenVariable, spreads_of, written_variables
from zembrel.formats.cf.dataset import layer_names, open_dataset
from zembrel.formats.cf.gridmapping import mapping_attributes
from zembrel.formats.cf.variables import Variable, Variables, check_count
from zembrel.formats.hdf5 import hdf5_file
from zembrel.formats.sink import Sink
from zembrel.formats.voids import filled, void_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.guarded import GuardedFile
from zembrel.handles import file_handles
from zembrel.provenance import KEY, document
from zembrel.raster.model import Band, Block, Raster

_CHUNK = 512


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid `layer` of the file, `NAME`, `GROUP/NAME` or `NAME[time=2026-05-01]`. Raises InputError."""
    variables, own = _variables(path)
    return open_dataset(path, variables, own, layer)


def layers(path: Path) -> list[str]:
    return layer_names(_variables(path)[0])


def _variables(path: Path) -> tuple[Variables, dict[str, Any]]:
    """Every array of all groups by its path, and the attributes of the file."""
    if file_handles.read(path, 0, 4) in netcdf3.MARKS:
        return netcdf3.variables_of(path)
    file = hdf5_file(path)
    found: dict[str, Variable] = {}
    try:
        _collect(path, file, "", found)
        own = {key: _in_words(value) for key, value in file.attrs.items()}
    except DAMAGED as exc:
        raise InputError(f"{path} is broken", f"{exc}".splitlines()[0], "get the file again") from exc
    provenance.found(path, str(own.get(KEY, "")))
    return found, own


def _collect(path: Path, group: Any, above: str, found: dict[str, Variable]) -> None:
    for name, variable in group.variables.items():
        check_count(path, len(found) + 1)
        full = f"{above}{name}"
        dtype = variable.dtype
        if not isinstance(dtype, np.dtype):
            dtype = np.dtype(object)
        attributes = {key: _in_words(value) for key, value in variable.attrs.items()}
        dimensions = tuple(str(d).rpartition("/")[2] for d in variable.dimensions)
        read = partial(_part, path, full)
        found[full] = Variable(full, dimensions, tuple(variable.shape), dtype, attributes, read)
    for name, inner in group.groups.items():
        _collect(path, inner, f"{above}{name}/", found)


def _in_words(value: Any) -> Any:
    """An attribute whose text is bytes, as those of one letter are, as text."""
    held = (
        value.ravel()[0]
        if isinstance(value, np.ndarray) and value.dtype.kind == "S" and value.size == 1
        else value
    )
    return held.decode("utf-8", "replace") if isinstance(held, bytes) else value


def _part(path: Path, name: str, index: tuple[Any, ...]) -> npt.NDArray[Any]:
    return np.asarray(hdf5_file(path)[name][index])


def parse_options(settings: Mapping[str, str]) -> int:
    """The level of compression as typed. Raises UsageError."""
    return parse_level(settings.get("compress", "deflate:4"))


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for variables on a north-up frame. Raises UsageError for a turned one or an odd level."""
    if not frame.north_up:
        raise UsageError(
            f"{path.name} would be turned",
            "axes of coordinates lie north up",
            "reproject it onto a frame first",
        )
    chunks = min(_CHUNK, frame.rows), min(_CHUNK, frame.columns)
    encoder = ChunkEncoder(bands, chunks, parse_options(settings))
    blocks = tuple(frame.pane.blocks(2 * chunks[0], 2 * chunks[1]))
    return Sink(blocks, encoder, NetcdfStore(path, frame, bands, encoder))


def parse_level(text: str) -> int:
    """The Deflate level of `deflate[:1-9]`, 0 for none. Raises UsageError."""
    found = re.fullmatch(r"deflate(?::([1-9]))?", text.lower())
    if text.lower() != "none" and not found:
        raise UsageError(f"compress={text} is unclear", "none or deflate:1 to deflate:9", "write deflate:4")
    return int(found[1] or 4) if found else 0


@dataclass(frozen=True)
class ChunkEncoder:
    """Chunks of variables of HDF5 as its filters make them. level: of Deflate, 0 for none."""

    bands: tuple[Band, ...]
    chunks: tuple[int, int]
    level: int

    def encode(self, pane: Pane, block: Block) -> list[tuple[int, tuple[int, int], bytes]]:
        """Band, first row and column, and bytes of each chunk."""
        done = []
        for n, band in enumerate(self.bands):
            part = Block(block.cells[n : n + 1], None if block.valid is None else block.valid_of(n))
            cells = filled(part, void_of((band,)), "a NetCDF variable")[0].astype(band.dtype, copy=False)
            for piece in pane.blocks(*self.chunks):
                rows, columns = piece.within(pane)
                done.append((n, (piece.top, piece.left), self._packed(cells[rows, columns])))
        return done

    def _packed(self, cells: npt.NDArray[Any]) -> bytes:
        """One chunk: padded, bytes shuffled by place, Deflate."""
        whole = cells
        if cells.shape != self.chunks:
            whole = np.zeros(self.chunks, cells.dtype)
            whole[: cells.shape[0], : cells.shape[1]] = cells
        whole = np.ascontiguousarray(whole)
        if not self.level:
            return whole.tobytes()
        import imagecodecs

        planes = whole.reshape(-1).view(np.uint8).reshape(-1, whole.itemsize)
        return bytes(imagecodecs.deflate_encode(planes.T.tobytes(), self.level))


class NetcdfStore:
    """A file into which chunks are put as they are."""

    def __init__(self, path: Path, frame: Frame, bands: tuple[Band, ...], encoder: ChunkEncoder) -> None:
        import h5netcdf

        self._chunks, self._level = encoder.chunks, encoder.level
        rows, columns = axes_of(frame)
        written = written_variables(bands, (rows.name, columns.name, "crs"))
        self._guard = GuardedFile(path)
        self._file = file = h5netcdf.File(self._guard, "w")
        file.attrs["Conventions"] = "CF-1.11"
        file.attrs["title"] = path.stem
        file.attrs["history"] = "written by zembrel"
        if (told := document()) is not None:
            file.attrs[KEY] = told
        file.attrs[FRAME] = frame_text(frame)
        file.attrs[BANDS] = " ".join(variable.name for variable in written)
        mapping = mapping_attributes(frame.crs) if frame.crs is not None else {}
        if mapping:
            file.create_variable("crs", (), np.int32, data=np.int32(0)).attrs.update(mapping)
        for axis in (rows, columns):
            file.dimensions[axis.name] = axis.values.size
            file.create_variable(axis.name, (axis.name,), float, data=axis.values).attrs.update(
                axis.attributes
            )
            if axis.edges is not None:
                self._edges(axis.name, axis.edges, {"units": axis.attributes["units"]})
        for spread in spreads_of(written):
            self._spread(spread)
        self._stored: dict[int, tuple[Any, tuple[int, ...]]] = {}  # of each band: variable, and place in it
        for variable in written:
            stored = self._variable(variable, (rows.name, columns.name), "crs" if mapping else None)
            self._stored |= {n: (stored, place) for n, place in variable.places.items()}

    def _edges(self, name: str, edges: npt.NDArray[np.float64], attributes: dict[str, Any]) -> None:
        self._file.dimensions.setdefault(EDGE, 2)
        made = self._file.create_variable(f"{name}_bounds", (name, EDGE), float, data=edges)
        made.attrs.update(attributes)

    def _spread(self, spread: Spread) -> None:
        self._file.dimensions[spread.name] = spread.values.size
        if spread.attributes is None:
            return
        import h5py

        numbers = spread.values.dtype.kind in "iuf"
        kind = spread.values.dtype if numbers else h5py.string_dtype()
        values = spread.values if numbers else spread.values.astype(object)
        made = self._file.create_variable(spread.name, (spread.name,), kind, data=values)
        made.attrs.update(spread.attributes)
        if spread.edges is not None:
            made.attrs["bounds"] = f"{spread.name}_bounds"
            self._edges(spread.name, spread.edges, {})

    def _variable(self, written: WrittenVariable, axes: tuple[str, str], mapping: str | None) -> Any:
        band, ones = written.band, (1,) * len(written.spread)
        attributes = band_attributes(band, mapping) | {"long_name": written.name}
        dimensions = (*(spread.name for spread in written.spread), *axes)
        fill = attributes.pop("_FillValue", None)
        packed = (
            {"compression": "gzip", "compression_opts": self._level, "shuffle": True} if self._level else {}
        )
        made = self._file.create_variable(
            written.name, dimensions, band.dtype, chunks=(*ones, *self._chunks), fillvalue=fill, **packed
        )
        made.attrs.update(attributes)
        return made._h5ds.id

    def append(self, key: Pane, encoded: list[tuple[int, tuple[int, int], bytes]]) -> None:
        for n, offset, data in encoded:
            variable, place = self._stored[n]
            variable.write_direct_chunk((*place, *offset), data)
        self._guard.check()

    def finish(self) -> None:
        self.abort()
        self._guard.check()

    def abort(self) -> None:
        self._file.close()
        self._guard.close()
