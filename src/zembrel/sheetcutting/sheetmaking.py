"""Sheets of a raster, made: several at once where they are small."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.engine.executor import Executor, Threads
from zembrel.engine.limits import processors
from zembrel.inputs.options import Output
from zembrel.progress import Progress, no_tick
from zembrel.provenance import document
from zembrel.raster.model import Raster
from zembrel.raster.views.outline import Blanked
from zembrel.raster.views.place import crop
from zembrel.reading import readings
from zembrel.results.receipt import Result
from zembrel.results.write import NothingValidError, write
from zembrel.sheetcutting.cutting import Cutting
from zembrel.sheetcutting.sheetcuts import Sheet

Done = tuple[Sheet, Result]
_LARGE = 16_000_000  # cells of a sheet that keeps all workers busy by itself


def made_sheets(
    view: Raster, sheets: Sequence[Sheet], kept: set[Path], output: Output, cutting: Cutting
) -> list[Done]:
    """Every sheet with what became of it; empty ones are left out. Small sheets are made several at once."""
    quiet = replace(output, replace=output.replace or cutting.resume, format=None)
    largest = max((sheet.pane.size for sheet in sheets), default=0)
    apart = output.executor is not None and len(sheets) > 1  # whose workers put each sheet in its place
    at_once = output.limits.workers or processors()
    if output.dry_run or (largest > _LARGE and not apart):
        at_once = 1
    executor: Executor = Threads(at_once, at_once + 1)
    if at_once > 1:
        quiet = replace(quiet, workers=1, tick=no_tick)
        if apart and output.executor is not None:
            executor, quiet = output.executor, replace(quiet, executor=None, cluster=None)
            readings.write([sheet.path for sheet in sheets if sheet.path not in kept])
    task = _Making(view, kept, quiet, document() if apart else None)
    done, cells, total = [], 0, sum(sheet.pane.size for sheet in sheets)
    for number, (sheet, result) in enumerate(zip(sheets, executor.map(task, sheets), strict=True), 1):
        done += [(sheet, result)] if result is not None else []
        cells += sheet.pane.size
        if at_once > 1:
            output.tick(Progress(number, len(sheets), cells, total))
    return done


def sizes(view: Raster, sheets: Sequence[Sheet], output: Output) -> Iterator[int]:
    """Write sheets, on this machine, and yield the bytes of each; 0 for one that would be empty."""
    at_once = (
        1 if max(sheet.pane.size for sheet in sheets) > _LARGE else output.limits.workers or processors()
    )
    workers = 1 if at_once > 1 else output.workers
    quiet = replace(
        output, replace=True, format=None, executor=None, cluster=None, tick=no_tick, workers=workers
    )
    for result in Threads(at_once, at_once + 1).map(_Making(view, set(), quiet, None), sheets):
        yield (result.bytes or 0) if result is not None else 0


@dataclass(frozen=True)
class _Making:
    """Makes sheets of a raster, but for those that are kept."""

    view: Raster
    kept: set[Path]
    output: Output
    provenance: str | None  # for workers elsewhere, who do not know the run

    def __call__(self, sheet: Sheet) -> Result | None:
        """What became of a sheet; None if it would be empty."""
        if sheet.path in self.kept:
            return Result(sheet.path, sheet.path.stat().st_size)
        try:
            with readings.run():
                if self.provenance is not None:
                    readings.tell(self.provenance)
                return write(_view_of(sheet, self.view), sheet.path, self.output).result
        except NothingValidError:
            return None


def _view_of(sheet: Sheet, view: Raster) -> Raster:
    part = crop(view, sheet.pane)
    return part if sheet.cover is None else Blanked(part, sheet.cover)
