"""tile --at-most of points: the split into the fewest sheets whose files stay below a size."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from math import floor
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.facts import Fact
from zembrel.grid.fewest import Array, fewest
from zembrel.inputs.options import Output
from zembrel.measure import parse_bytes
from zembrel.owned import temporary
from zembrel.progress import no_tick
from zembrel.reading import readings
from zembrel.results.mergedclouds import Merged
from zembrel.sheetcutting.cutting import Cutting
from zembrel.sheetcutting.pointsheets import PointSheet, named_sheets, sheets_of
from zembrel.sheetcutting.sheetsize import chosen_split

_PARTS = 32  # along each side, in which points are counted to predict the sizes of sheets
Write = Callable[[PointSheet, Output], dict[str, Any] | None]


def fitting(
    whole: Merged, paths: Sequence[Path], cutting: Cutting, output: Output, write: Write
) -> tuple[Cutting, tuple[Fact, ...]]:
    """Return the way to cut with --at-most replaced by the split that it leads to, and a fact about it.

    The points of parts, counted in one pass, and the bytes of a point in the fullest part predict which
    splits can fit. The sheets of these are written to a scratch folder and measured. A dry run goes by sizes
    without compression. write: what writes a sheet. Raises UsageError, or RefusedError where no split fits.
    """
    if not cutting.at_most:
        return cutting, ()
    most = parse_bytes(cutting.at_most)
    parts = _sheets(whole, paths, cutting, output, (_PARTS, _PARTS))
    counts = _counted(whole, parts, output)
    sizes = list[float]()  # of the largest sheet of each split that was tried

    def largest(predicted: Array) -> float:
        rows, columns = predicted.shape
        if output.dry_run:
            sizes.append(float(predicted.max()))
            return 0
        sheets = _sheets(whole, paths, cutting, output, (columns, rows))
        sheets.sort(key=lambda sheet: -predicted[sheet.facts["row"] - 1, sheet.facts["col"] - 1])
        sizes.append(0)
        for sheet in sheets:
            sizes[-1] = max(_measured(sheet, output, write)[0], sizes[-1])
            if sizes[-1] > most:
                break
        return sizes[-1]

    a_point = float(whole.layout.dtype.itemsize)
    if not output.dry_run:
        row, column = divmod(int(counts.argmax()), _PARTS)
        for across in (_PARTS, 0):  # a point of a small file, then of one at least as large as a sheet
            across = across or max(1, floor((counts.sum() * a_point / most) ** 0.5))
            sheets = _sheets(whole, paths, cutting, output, (across, across))
            sheet = sheets[row * across // _PARTS * across + column * across // _PARTS]
            a_point = _measured(sheet, output, write)[1]
    first, last = parts[0].facts, parts[-1].facts
    shape = last["east"] - first["west"], first["north"] - last["south"]
    found = fewest(counts * a_point, 0, most, shape, largest)
    return chosen_split(found, cutting, most, int(sizes[-1]) if sizes else 0, output)


def _sheets(
    whole: Merged, paths: Sequence[Path], cutting: Cutting, output: Output, split: tuple[int, int]
) -> list[PointSheet]:
    cutting = replace(cutting, split="x".join(map(str, split)), at_most=None)
    return named_sheets(sheets_of(whole, cutting), paths, output, cutting)


def _measured(sheet: PointSheet, output: Output, write: Write) -> tuple[int, float]:
    """Return the bytes of a sheet and of each of its points; zeros for an empty one."""
    owned = temporary()
    try:
        aside = replace(sheet, path=owned.path / sheet.path.name)
        with readings.run():
            facts = write(aside, replace(output, replace=True, tick=no_tick))
    finally:
        owned.remove()
    return (int(facts["bytes"]), facts["bytes"] / max(1, facts["points"])) if facts is not None else (0, 0.0)


def _counted(whole: Merged, parts: Sequence[PointSheet], output: Output) -> Array:
    """Return the points in each part, (rows, columns)."""
    xs = np.array([part.facts["west"] for part in parts[:_PARTS]])
    ys = np.array([part.facts["south"] for part in parts[::_PARTS]])
    task = _Count(whole, xs, ys[::-1])
    found = np.zeros((_PARTS, _PARTS), np.int64)
    for counts in over_pieces(pieces_of(whole.sources), task, output.limits):
        found += counts
    return found[::-1].astype(np.float64)


@dataclass(frozen=True, eq=False)
class _Count:
    """Counts the points of a piece by the parts whose west and south edges are given, both ascending."""

    whole: Merged
    xs: npt.NDArray[np.float64]
    ys: npt.NDArray[np.float64]

    def __call__(self, piece: Piece) -> npt.NDArray[np.int64]:
        block = self.whole.brought(piece.source.read(piece.part), piece)
        column = np.clip(np.searchsorted(self.xs, block.x, "right") - 1, 0, len(self.xs) - 1)
        row = np.clip(np.searchsorted(self.ys, block.y, "right") - 1, 0, len(self.ys) - 1)
        size = len(self.xs) * len(self.ys)
        return np.bincount(row * len(self.xs) + column, minlength=size).reshape(len(self.ys), len(self.xs))
