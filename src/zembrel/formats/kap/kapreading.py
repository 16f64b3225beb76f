"""A strict reader of charts: every row is where the table says, and has the cells that it should."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.formats.kap import placing, rows
from zembrel.formats.kap.header import MOST, broken, parse_header
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.handles import file_handles
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band, Block

_OFFSET = 4  # bytes


@dataclass(frozen=True, eq=False)
class Chart:
    """Codes of a palette; starts (rows + 1,): where each row begins, and where the last one ends."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    bits: int
    starts: npt.NDArray[np.int64]
    remarks: tuple[str, ...] = ()

    @property
    def block_shape(self) -> tuple[int, int]:
        """Rows are whole."""
        return 1, self.frame.columns

    def cells(self, pane: Pane) -> Block:
        """Raises InputError for a row that breaks a rule."""
        starts = self.starts[pane.top : pane.bottom + 1]
        data = file_handles.read(self.path, int(starts[0]), int(starts[-1] - starts[0]))
        codes = np.zeros((pane.rows, self.frame.columns), np.uint8)
        numbers = np.zeros(pane.rows, np.int64)
        within = (starts[:-1] - starts[0]).astype(np.int64)
        odd = rows.unpacked(np.frombuffer(data, np.uint8), within, self.bits, numbers, codes)
        if odd >= 0:
            broken(self.path, f"row {pane.top + odd} is not {self.frame.columns} cells of known colours")
        due = np.arange(pane.top, pane.bottom)
        if (numbers != due).any() and (numbers != due + 1).any():
            broken(self.path, f"row {pane.top} calls itself {numbers[0]}")
        return Block(codes[None, :, pane.left : pane.right].copy())


def open_chart(path: Path) -> Chart:
    """The chart at `path`. Raises InputError for one that breaks the rules."""
    size = file_handles.renew(path).size
    head = parse_header(path, file_handles.read(path, 0, min(size, MOST)))
    starts = _starts(path, size, head.size[1], head.at)
    entries = [LegendEntry(code, "", colour) for code, colour in enumerate(head.colours, 1)]
    band = Band("colour", "uint8", legend=Legend.of(entries))
    placed = placing.placed(path, head)
    return Chart(path, placed.frame, (band,), head.bits, starts, placed.remarks)


def _starts(path: Path, size: int, count: int, first: int) -> Any:
    """Where rows begin, as the table at the end of the file says."""
    tail = file_handles.read(path, max(0, size - _OFFSET), _OFFSET)
    table = int.from_bytes(tail, "big")
    if not first <= table <= size - _OFFSET * (count + 1):
        broken(path, "it is cut off: its table of rows is not where it should be")
    held = np.frombuffer(file_handles.read(path, table, _OFFSET * count), ">u4").astype(np.int64)
    starts = np.append(held, table)
    if starts[0] < first or (np.diff(starts) < 2).any():
        broken(path, "its rows do not follow each other")
    return starts
