"""Cells as they lie in a file: where each is, read where they are wanted, written in strips."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.sink import FileStore, Sink
from zembrel.formats.strided import RawLayout, read_strided
from zembrel.formats.voids import filled, void_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells
from zembrel.raster.views.nodata import nodata_mask

ORDERS = {"i": "<", "lsbfirst": "<", "intel": "<", "m": ">", "msbfirst": ">", "motorola": ">"}
_STRIP_CELLS = 1_000_000
_SAMPLE = 256  # cells a side of what is looked at for the byte order
_SMOOTHER = 0.2  # as rough as this in the other order: the bytes are most likely swapped


def beside(path: Path, ending: str) -> Path:
    """The file of the same name with `ending`, in small or capital letters. Raises InputError."""
    found = next((p for e in (ending, ending.upper()) if (p := path.with_suffix(e)).is_file()), None)
    if found is None:
        raise InputError(
            f"{path} has no header beside it",
            f"{path.with_suffix(ending).name} says how its bytes are to be read",
            "put the header beside it",
        )
    return found


def order_of(settings: Mapping[str, str]) -> str:
    """The sign of the byte order that `byteorder` asks for. Raises UsageError."""
    order = settings.get("byteorder", "little").lower()
    if order not in ("little", "big"):
        raise UsageError(f"byteorder={order} is unclear", "it is little or big", "write byteorder=big")
    return "<" if order == "little" else ">"


@dataclass(frozen=True, eq=False)
class RawCells:
    """The cells of a file that holds them as they are."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    storage: RawLayout
    said: tuple[str, ...] = ()

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if the file has become shorter or is gone."""
        cells = self._stored(pane).astype(self.storage.dtype.newbyteorder("="), copy=False)
        valid = nodata_mask(cells, self.bands)
        return Block(cells, None if valid is None or valid.all() else valid)

    def _stored(self, pane: Pane) -> Cells:
        """Cells, (bands, rows, columns), in the byte order of the file."""
        return read_strided(self.path, self.storage, (len(self.bands), *pane.shape), (pane.top, pane.left))

    @cached_property
    def remarks(self) -> tuple[str, ...]:
        """That the bytes are most likely in the other order, if neighbours differ far less in that."""
        if self.storage.dtype.itemsize == 1:
            return self.said
        top, left = max(0, self.frame.rows - _SAMPLE) // 2, max(0, self.frame.columns - _SAMPLE) // 2
        sample = Pane(top, left, top + _SAMPLE, left + _SAMPLE).meet(self.frame.pane)
        assert sample is not None
        part = self._stored(sample)[0]
        as_read, swapped = _roughness(part, self.bands[0]), _roughness(part.byteswap(), self.bands[0])
        if not swapped < _SMOOTHER * as_read:
            return self.said
        other = "little" if self.storage.dtype.str[0] == ">" else "big"
        return (*self.said, f"neighbours differ far less in {other}-endian order: the bytes may be swapped")


def _roughness(part: Cells, band: Band) -> float:
    """How much neighbours differ, as a share of the largest number of the type; infinite for odd floats."""
    values = part.astype(np.float64)
    if band.nodata is not None:
        values[part == part.dtype.type(band.nodata)] = np.nan
    if part.dtype.kind == "f":
        odd = ~np.isnan(values) & ((np.abs(values) > 1e30) | ((values != 0) & (np.abs(values) < 1e-30)))
        if odd.mean() > 0.01:
            return np.inf
    steps = np.abs(np.diff(values, axis=1))
    return float(np.nanmean(steps)) if np.isfinite(steps).any() else 0.0


def raw_sink(
    path: Path, frame: Frame, bands: tuple[Band, ...], kind: np.dtype[Any], way: str = "bsq",
    *, upward: bool = False,
) -> Sink:  # fmt: skip
    """A sink that puts strips of rows where the layout wants them.

    kind: type with byte order; way: `bil`, `bip` or `bsq`; upward: whether the southernmost row is first.
    """
    strips = tuple(frame.pane.blocks(max(1, _STRIP_CELLS // frame.columns), frame.columns))
    encoder = RawEncoder(void_of(bands), kind, way, upward)
    return Sink(strips, encoder, RawStore(path, frame, encoder))


@dataclass(frozen=True)
class RawEncoder:
    """Strips in the order of bytes, samples and rows of a layout; layers apart if that wants them so."""

    void: float | int | None
    kind: np.dtype[Any]
    way: str
    upward: bool

    def encode(self, pane: Pane, block: Block) -> list[bytes]:
        cells = filled(block, self.void, "a raw grid").astype(self.kind, copy=False)
        if self.upward:
            cells = cells[:, ::-1]
        if self.way == "bsq":
            return [layer.tobytes() for layer in cells]
        side_by_side = np.stack(list(cells), axis=1 if self.way == "bil" else 2)
        return [side_by_side.astype(self.kind, copy=False).tobytes()]


class RawStore(FileStore):
    """A file in which strips have places of their own."""

    def __init__(self, path: Path, frame: Frame, encoder: RawEncoder) -> None:
        super().__init__(path)
        self._frame, self._encoder = frame, encoder

    def append(self, key: Pane, encoded: list[bytes]) -> None:  # type: ignore[override]
        line = self._frame.columns * self._encoder.kind.itemsize
        first = self._frame.rows - key.bottom if self._encoder.upward else key.top
        for number, data in enumerate(encoded):
            if self._encoder.way == "bsq":
                self.file.seek((number * self._frame.rows + first) * line)
            self.file.write(data)
