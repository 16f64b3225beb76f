"""Several NumPy arrays in one file (`.npz`): a 2-D array for each band, by its name.

Source: NumPy Enhancement Proposal 1, in a zip. Bands are the arrays of the first one's shape, or the layers
of one array of three dimensions. The place is in a world file and a `.prj` beside.
"""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError, nearest_name
from zembrel.formats.numpyfile import LOAD_ERRORS
from zembrel.formats.sidecars import placed_beside
from zembrel.formats.sink import Sink
from zembrel.formats.voids import filled, void_of
from zembrel.formats.whole import WholeRaster, whole_sink
from zembrel.grid.frame import Frame
from zembrel.measure import show_bytes
from zembrel.raster.model import TYPES, Band, Block, Cells, Raster
from zembrel.reading import TRUST, readings

_ERRORS = (*LOAD_ERRORS, KeyError, NotImplementedError, RuntimeError, zipfile.BadZipFile, zlib.error)
_MOST = 8_000_000_000  # bytes that the arrays may claim


def layers(path: Path) -> list[str]:
    return [name for name, shape, _ in _held(path) if len(shape) in (2, 3)]


def _held(path: Path) -> list[tuple[str, tuple[int, ...], str]]:
    """Name, shape and type of every array, from their headers. Raises InputError."""
    found = []
    try:
        with zipfile.ZipFile(path) as file:
            for entry in file.infolist():
                if not entry.filename.endswith(".npy"):
                    continue
                if entry.file_size > readings.most(_MOST):
                    what = f"{path} is larger than an archive of arrays should be"
                    claimed = f"{entry.filename} claims {show_bytes(entry.file_size)}"
                    raise InputError(what, f"{claimed}, the limit is {show_bytes(_MOST)}", TRUST)
                with file.open(entry) as member:
                    version = np.lib.format.read_magic(member)
                    read = (
                        np.lib.format.read_array_header_1_0
                        if version == (1, 0)
                        else np.lib.format.read_array_header_2_0
                    )
                    shape, _, kind = read(member)
                found.append((entry.filename[:-4], shape, kind.newbyteorder("=").name))
    except _ERRORS as exc:
        raise _broken(path, exc) from exc
    return found


def _broken(path: Path, cause: Exception) -> InputError:
    return InputError(f"{path} is broken", f"{cause}", "get the file again, or leave it out")


def open_raster(path: Path, layer: str | None) -> Raster:
    """The arrays at `path`. Raises InputError unless one has 2 or 3 dimensions of plain numbers."""
    held = [h for h in _held(path) if len(h[1]) in (2, 3) and 0 not in h[1] and h[2] in TYPES]
    if layer is not None:
        held = [h for h in held if h[0] == layer]
    if not held:
        names = layers(path)
        raise InputError(
            f"{path} has no array {layer!r}" if layer else f"{path} holds no grid",
            f"it has {', '.join(names) or 'none of 2 or 3 dimensions'}",
            nearest_name(layer or "", names) if names else "save one in that shape",
        )
    name, shape, kind = held[0]
    if len(shape) == 3:
        names, chosen = [f"{name}{n + 1}" for n in range(shape[0])], [name]
    else:
        names = chosen = [h[0] for h in held if h[1:] == (shape, kind)]
    bands = tuple(Band(each, kind) for each in names)
    placed = placed_beside(path, shape[-1], shape[-2])
    return WholeRaster(path, placed.frame, bands, partial(_decoded, chosen), placed.remarks)


def _decoded(names: list[str], path: Path) -> Cells:
    try:
        with np.load(path, allow_pickle=False) as file:
            layers: Any = [np.asarray(file[name]) for name in names]
    except _ERRORS as exc:
        raise _broken(path, exc) from exc
    cells: Cells = np.stack(layers[0] if layers[0].ndim == 3 else layers, axis=-1)
    return cells.astype(cells.dtype.newbyteorder("="), copy=False)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for an array for each band, compressed."""

    def write(cells: Cells, valid: Cells | None) -> None:
        block = Block(cells.transpose(2, 0, 1), None if valid is None else valid)
        layers = filled(block, void_of(bands), "an array file")
        with path.open("wb") as file:
            np.savez_compressed(file, **{band.name: layers[n] for n, band in enumerate(bands)})

    return whole_sink(frame, bands, write)
