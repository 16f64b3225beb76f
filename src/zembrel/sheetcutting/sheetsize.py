"""tile --at-most: the split into the fewest sheets whose files stay below a size."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from math import inf

import numpy as np

from zembrel.engine.plan import Plan
from zembrel.errors import RefusedError
from zembrel.facts import Fact, fact
from zembrel.grid.fewest import MOST_SHEETS, Array, fewest
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Output
from zembrel.measure import parse_bytes, show_bytes
from zembrel.owned import temporary
from zembrel.raster.model import Raster
from zembrel.sheetcutting.cutting import Cutting
from zembrel.sheetcutting.sheetcuts import Sheet, named_sheets, sheets_of
from zembrel.sheetcutting.sheetmaking import sizes

_PARTS = 8  # along each side, whose sizes predict those of sheets


def fitting(
    view: Raster, layers: Sequence[Layer], cutting: Cutting, output: Output
) -> tuple[Cutting, tuple[Fact, ...]]:
    """Return the way to cut with --at-most replaced by the split that it leads to, and a fact about it.

    The sizes of parts predict which splits can fit. The sheets of these are written to a scratch folder and
    measured. A dry run goes by sizes without compression. Raises UsageError, or RefusedError where no split
    fits.
    """
    if not cutting.at_most:
        return cutting, ()
    most, whole = parse_bytes(cutting.at_most), view.frame.pane
    trial = _Trial(view, layers, cutting, output)
    across, down = min(_PARTS, whole.columns), min(_PARTS, whole.rows)
    parts = np.array(list(trial.sizes(trial.sheets(across, down, None))), np.float64).reshape(down, across)
    a_file = trial.size_of_a_cell()
    sizes = list[float]()  # of the largest sheet of each split that was tried

    def largest(predicted: Array) -> float:
        rows, columns = predicted.shape
        if columns > whole.columns or rows > whole.rows:
            return inf
        sheets = trial.sheets(columns, rows, cutting.margin)
        sheets.sort(key=lambda sheet: -predicted[sheet.facts["row"] - 1, sheet.facts["col"] - 1])
        sizes.append(0)
        for size in trial.sizes(sheets):
            sizes[-1] = max(size, sizes[-1])
            if size > most:
                break
        return sizes[-1]

    found = fewest(parts, a_file, most, (whole.columns, whole.rows), largest)
    return chosen_split(found, cutting, most, int(sizes[-1]) if sizes else 0, output)


def chosen_split(
    found: tuple[int, int] | None, cutting: Cutting, most: int, largest: int, output: Output
) -> tuple[Cutting, tuple[Fact, ...]]:
    """Return the cutting with the split that was found, and a fact about it.

    largest: bytes of its largest sheet. Raises RefusedError if no split was found.
    """
    if found is None:
        what, why = f"--at-most {cutting.at_most}", f"no split into {MOST_SHEETS:,} sheets has files as small"
        raise RefusedError(what, why, f"write --at-most {show_bytes(100 * most).replace(' ', '')}")
    columns, rows = found
    if output.dry_run:
        told = fact("split_planned", columns=columns, rows=rows, most=most)
    else:
        told = fact("split_found", columns=columns, rows=rows, most=most, largest=largest)
    return replace(cutting, split=f"{columns}x{rows}", at_most=None), (told,)


@dataclass(frozen=True)
class _Trial:
    """Sheets that are written only to learn their size."""

    view: Raster
    layers: Sequence[Layer]
    cutting: Cutting
    output: Output

    def sheets(self, columns: int, rows: int, margin: str | None) -> list[Sheet]:
        cutting = replace(self.cutting, split=f"{columns}x{rows}", at_most=None, margin=margin)
        return named_sheets(sheets_of(self.view.frame, cutting), self.layers, self.output, cutting)

    def size_of_a_cell(self) -> int:
        """Return the bytes of a sheet of one cell: little more than what every file has."""
        sheet = replace(self.sheets(1, 1, None)[0], pane=Pane(0, 0, 1, 1))
        return next(replace(self, output=replace(self.output, keep_empty=True)).sizes([sheet]))

    def sizes(self, sheets: Sequence[Sheet]) -> Iterator[int]:
        """Yield the bytes of each sheet; 0 for an empty one."""
        if self.output.dry_run:
            for sheet in sheets:
                yield Plan(self.view.frame.crop(sheet.pane), self.view.bands, sheet.path).bytes_at_most
            return
        owned = temporary()
        try:
            moved = [
                replace(sheet, path=owned.path / str(n) / sheet.path.name) for n, sheet in enumerate(sheets)
            ]
            yield from sizes(self.view, moved, self.output)
        finally:
            owned.remove()
