"""NumPy `.npy` files of bands x rows x columns."""

from __future__ import annotations

import tokenize
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrel.errors import InputError
from zembrel.formats.sidecars import placed_beside
from zembrel.formats.sink import Sink
from zembrel.formats.strided import RawLayout, read_strided
from zembrel.formats.voids import filled, void_of
from zembrel.formats.whole import only_layer
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.model import TYPES, Band, Block, Cells, Raster, shared_type
from zembrel.raster.views.nodata import nodata_mask

layers = only_layer
# What the package raises for headers, which are Python text, and arrays that are not whole.
LOAD_ERRORS = (ValueError, OSError, EOFError, SyntaxError, TypeError, tokenize.TokenError, OverflowError)


@dataclass(frozen=True)
class ArrayRaster:
    """An array file; two dimensions are one band."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    storage: RawLayout
    remarks: tuple[str, ...] = ()

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if the file has become shorter."""
        shape = len(self.bands), *pane.shape
        stored = read_strided(self.path, self.storage, shape, (pane.top, pane.left))
        cells = stored.astype(self.bands[0].dtype, copy=False)
        valid = nodata_mask(cells, self.bands)
        return Block(cells, None if valid is None or valid.all() else valid)


_STRIP = 512  # rows


def open_raster(path: Path, layer: str | None) -> Raster:
    """The array at `path`. Raises InputError unless it has 2 or 3 dimensions of plain numbers."""
    file_handles.renew(path)
    try:
        array = np.load(path, mmap_mode="r", allow_pickle=False)  # for what its header says
    except LOAD_ERRORS as exc:
        raise InputError(f"{path} is broken", f"{exc}", "get the file again, or leave it out") from exc
    kind = array.dtype.newbyteorder("=").name
    if array.ndim not in (2, 3) or 0 in array.shape or kind not in TYPES:
        raise InputError(
            f"{path} holds {array.dtype} of shape {array.shape}",
            "a raster is bands x rows x columns of integers or floats",
            "save it in that shape",
        )
    count = 1 if array.ndim == 2 else array.shape[0]
    bands = tuple(Band(f"band{n}", kind) for n in range(1, count + 1))
    placed = placed_beside(path, array.shape[-1], array.shape[-2])
    steps = (0, *array.strides) if array.ndim == 2 else array.strides
    layout = RawLayout(array.dtype, array.offset, *steps)
    return ArrayRaster(path, placed.frame, bands, layout, placed.remarks)


@dataclass(frozen=True)
class ArrayEncoder:
    """Cells whose invalid ones are `void`."""

    void: float | int | None

    def encode(self, pane: Pane, block: Block) -> Cells:
        """Raises RefusedError if cells are invalid and no value stands for that."""
        return filled(block, self.void, "an array file")


class ArrayStore:
    """A memory-mapped array."""

    def __init__(self, path: Path, frame: Frame, bands: tuple[Band, ...]) -> None:
        shape = (len(bands), frame.rows, frame.columns)
        self._array = np.lib.format.open_memmap(path, mode="w+", dtype=shared_type(bands), shape=shape)

    def append(self, key: Pane, encoded: Cells) -> None:
        self._array[:, key.top : key.bottom, key.left : key.right] = encoded

    def finish(self) -> None:
        self._array.flush()

    def abort(self) -> None:
        del self._array


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for an array file."""
    blocks = tuple(frame.pane.blocks(_STRIP, frame.columns))
    return Sink(blocks, ArrayEncoder(void_of(bands)), ArrayStore(path, frame, bands))
