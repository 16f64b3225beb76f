"""What compare says of two rasters of classes: how they are confused, their changes, and their shift."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zembrel.engine.commit import Staging
from zembrel.engine.limits import Limits
from zembrel.grid.pane import Pane
from zembrel.inputs.options import Output
from zembrel.passes.shifts import ShiftEstimate
from zembrel.passes.survey import seen
from zembrel.raster.difference import Confusion
from zembrel.raster.displacement import Untold
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import stack
from zembrel.raster.views.changed import Changed, changed
from zembrel.raster.views.place import crop
from zembrel.results.csvtext import csv_text

_MOST_CODES = 40  # pairs of classes that are reported
_HECTARE = 10_000.0  # square metres
_LESS = (
    0.5  # of the differences that a shift must leave at most, to be one of the map and no change of classes
)
TABLE = ("from", "from_name", "to", "to_name", "cells", "hectares", "percent")


def _names(one: Raster, other: Raster) -> tuple[dict[int, str], dict[int, str]]:
    """The names of the classes of both; one without a legend has those of the other."""
    legends = [raster.bands[0].legend for raster in (one, other)]
    first, second = (
        {entry.code: entry.name for entry in legend.entries} if legend else {} for legend in legends
    )
    return first or second, second or first


def confused(classes: Confusion, one: Raster, other: Raster) -> dict[str, Any]:
    """Agreement of classes, and the largest confusions: codes and names of both, and how many cells."""
    first, second = _names(one, other)
    pairs = [(count, codes) for codes, count in classes.pairs.items() if codes[0] != codes[1]]
    rows = [
        {"first": a, "second": b, "names": [first.get(a, ""), second.get(b, "")], "cells": count}
        for count, (a, b) in sorted(pairs, key=lambda item: (-item[0], item[1]))[:_MOST_CODES]
    ]
    return {"agreement": classes.agreement, "kappa": classes.beyond_chance, "confused": rows}


def changes_of(classes: Confusion, one: Raster, other: Raster) -> Changed:
    """The codes of changes, cell by cell. Raises RefusedError as `changed` does."""
    return changed(one, other, classes.pairs.keys(), _names(one, other))


def write_table(classes: Confusion, one: Raster, other: Raster, path: Path, output: Output) -> None:
    """Each pair of classes, unchanged ones too: its cells, hectares on the ground, and share of all cells."""
    (first, second), total = _names(one, other), max(sum(classes.pairs.values()), 1)
    rows = [
        (a, first.get(a, ""), b, second.get(b, ""), cells, _hectares(classes, (a, b)), 100 * cells / total)
        for (a, b), cells in sorted(classes.pairs.items())
    ]
    with Staging(output.replace) as staging:
        staging.write_text(path, csv_text(TABLE, rows))
        staging.publish()


def _hectares(classes: Confusion, pair: tuple[int, int]) -> float | None:
    return classes.areas[pair] / _HECTARE if pair in classes.areas else None


def shift_of_classes(
    shift: ShiftEstimate | Untold, classes: Confusion, one: Raster, other: Raster, limits: Limits
) -> ShiftEstimate | Untold:
    """A shift of whole maps, not of classes that changed: undone, it leaves half of the differences."""
    if isinstance(shift, Untold) or classes.agreement == 1:
        return shift
    rows, columns = round(shift.rows), round(shift.columns)
    pane = one.frame.pane
    part = pane.meet(Pane(pane.top - rows, pane.left - columns, pane.bottom - rows, pane.right - columns))
    if part is None or (rows, columns) == (0, 0):
        return Untold.CLASSES
    moved = Pane(part.top + rows, part.left + columns, part.bottom + rows, part.right + columns)
    undone = seen(stack((crop(one, part), crop(other, moved))), Confusion(), limits)
    return shift if 1 - undone.agreement <= _LESS * (1 - classes.agreement) else Untold.CLASSES
