"""fill: close voids within a reach."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.grid.frame import Frame
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer
from zembrel.inputs.lengths import in_cells
from zembrel.inputs.methods import codes_in
from zembrel.inputs.options import Inputs, Output
from zembrel.optiontext import OptionText
from zembrel.passes.survey import seen
from zembrel.raster.survey import Coverage
from zembrel.raster.views.fill import Filled
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write

FARTHEST = 1024  # cells


def fill(
    inputs: Inputs,
    output: Output,
    *,
    reach: Annotated[
        str | None, OptionText("Largest distance from cells with data, e.g. 20 or 50m.", "CELLS|LENGTH")
    ] = None,
) -> Receipt:
    """Each input with its voids closed, as far as `reach` (cells, or a length) from valid cells.

    Values are means of the valid cells around, weighted by the inverse square of distance; codes are taken
    from the nearest. Raises UsageError without a reach, or for one too far.
    """
    if not reach:
        raise UsageError(
            "there is no reach", "voids are closed so far from valid cells", "add --reach 20 (cells) or 50m"
        )
    layers, unopened = opened(take(inputs, output), output)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        view = layer.raster
        cells = _cells(reach, view.frame)
        kind = codes_in(view)
        before = Coverage()
        if not output.dry_run:
            before = seen(view, Coverage(), output.limits)
        written = write(Filled(view, cells, kind is not None), final, output)
        how = fact("filled_by_nearest", kind=kind) if kind else fact("filled_by_mean")
        chose = [how, fact("reach_in_cells", cells=cells)]
        if not output.dry_run:
            voids = view.frame.size - before.valid
            left = view.frame.size - (written.result.valid or 0)
            chose.append(fact("voids_closed", closed=voids - left, voids=voids, left=left))
        return written, chose

    return one_to_one("fill", layers, output, make, unopened)


def _cells(reach: str, frame: Frame) -> float:
    cells = max(in_cells(reach, frame))
    if not 1 <= cells <= FARTHEST:
        raise UsageError(
            f"--reach {reach} is {cells:.3g} cells",
            f"voids are closed over 1 to {FARTHEST:,} cells",
            "give another, or coarser cells first",
        )
    return cells
