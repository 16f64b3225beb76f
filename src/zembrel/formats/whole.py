"""Files that are read or written in one piece: the array is held, panes are cut from it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrel.formats.blockcache import block_cache
from zembrel.formats.sink import BlocksAsIs, Sink
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Block, Cells, has_alpha, shared_type
from zembrel.raster.views.nodata import both, nodata_mask

_STRIP = 512


@dataclass(frozen=True)
class WholeRaster:
    """A raster whose file is decoded as a whole by `decode` to (rows, columns, samples).

    Opacity, or a sample beyond the bands, says by 0 that a cell is invalid.
    """

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    decode: Callable[[Path], Cells]
    remarks: tuple[str, ...] = ()
    mask: str | None = None  # what else tells where nothing is

    def cells(self, pane: Pane) -> Block:
        whole = block_cache.get((self.path, file_handles.renew(self.path)), lambda: self.decode(self.path))
        rows, columns = pane.within(self.frame.pane)
        part = whole[rows, columns].transpose(2, 0, 1)
        cells = part[: len(self.bands)].copy()
        seen = part[-1] > 0 if part.shape[0] > len(self.bands) or has_alpha(self.bands) else None
        valid = both(nodata_mask(cells, self.bands), seen)
        return Block(cells, None if valid is None or valid.all() else valid)


def whole_sink(frame: Frame, bands: tuple[Band, ...], write: Callable[[Cells, Cells | None], None]) -> Sink:
    """A sink that gathers all cells, (rows, columns, samples), for `write`."""
    return Sink(
        tuple(frame.pane.blocks(_STRIP, frame.columns)), BlocksAsIs(), WholeStore(frame, bands, write)
    )


class WholeStore:
    """All cells, (rows, columns, samples), written at the end."""

    def __init__(
        self,
        frame: Frame,
        bands: tuple[Band, ...],
        write: Callable[[Cells, Cells | None], None],
    ) -> None:
        self._write = write
        self._cells = np.zeros((frame.rows, frame.columns, len(bands)), shared_type(bands))
        self._valid: Cells | None = None

    def append(self, key: Pane, encoded: Block) -> None:
        rows = slice(key.top, key.bottom)
        np.stack(list(encoded.cells), axis=-1, out=self._cells[rows])
        if encoded.valid is not None:
            if self._valid is None:
                self._valid = np.ones(self._cells.shape[:2], bool)
            self._valid[rows] = encoded.anywhere

    def finish(self) -> None:
        self._write(self._cells, self._valid)

    def abort(self) -> None:
        self._cells = self._cells[:0]


def only_layer(path: Path, settings: Mapping[str, str] | None = None) -> list[str]:
    """Files of this kind hold one layer."""
    return ["1"]
