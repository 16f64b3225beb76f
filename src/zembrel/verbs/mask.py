"""mask: blank where another layer is empty, or where a condition holds."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

from zembrel.algebra.operands import NamedFormula, NamedLayer, brought_together, computed
from zembrel.errors import UsageError
from zembrel.expression.formula import parse_condition
from zembrel.facts import Fact, fact
from zembrel.formats.origin import Origin
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer, open_layer
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import Target
from zembrel.optiontext import OptionText
from zembrel.raster.views.masked import Holds, Void
from zembrel.raster.views.outline import Blanked, Cover
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write


def mask(
    inputs: Inputs,
    output: Output,
    *,
    by: Annotated[str | None, OptionText("Blank cells where this raster has no data.", "LAYER")] = None,
    where: Annotated[
        str | None,
        OptionText(
            "Blank cells where this holds, for bands of --by or of the input, e.g. 'value < 0 or "
            "value > 900'.",
            "CONDITION",
        ),
    ] = None,
    keep: Annotated[bool, OptionText("Blank all other cells instead.")] = False,
) -> Receipt:
    """Each input, blank where the layer `by` is invalid, or where the condition `where` holds.

    where: plain algebra on the bands of `by`, or of the input itself without one; `value` is the first band.
    keep: blank all other cells instead. Raises UsageError without either, or for a name that is no band.
    """
    if not by and not where:
        raise UsageError(
            "there is nothing to mask by",
            "cells are blanked by a layer or a condition",
            "add --by or --where",
        )
    layers, unopened = opened(take(inputs, output), output)
    condition = parse_condition(where) if where else None
    witness = open_layer(Origin.of(Path(by)), replace(inputs, bands=None, layer=None)) if by else None

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        view = layer.raster
        target = Target(view.frame, asked=Where(average_codes=True))
        operands, chose = brought_together([NamedLayer("", witness or layer)], target, "nearest")
        cover: Cover = Void(operands.rasters[0])
        if condition is not None:
            truth, said = computed(operands, [NamedFormula("mask", condition)])
            cover, chose = Holds(truth), [*chose, *said]
        chose.append(
            fact("blank_where", condition=where, kept=keep) if where else fact("blank_where_empty", layer=by)
        )
        return write(Blanked(view, cover, not keep), final, output), chose

    return one_to_one("mask", layers, output, make, unopened)
