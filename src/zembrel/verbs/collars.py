"""Collars of photos: trimmed where that is asked for, with the numbers of what was taken and left."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from zembrel.engine.run import over_panes
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.raster.model import Raster, is_photo, shared_type
from zembrel.raster.views.collar import Collar, Shade, Trimmed, find_collar, shade_of
from zembrel.verbs.layers import Layer
from zembrel.verbs.options import Inputs, Output


def trimmed(
    layers: Sequence[Layer], inputs: Inputs, output: Output
) -> tuple[list[Layer], list[Fact], list[Fact]]:
    """The layers, photos without their collars if that is asked for; what was chosen, and what was found.

    Raises UsageError for a tolerance that is none.
    """
    tolerance = _tolerance(inputs)
    if not inputs.trim_collar or output.dry_run:
        return list(layers), [], []
    made, removed, left, shades = [], 0, 0, set()
    for layer in layers:
        photo = is_photo(layer.raster.bands) and shared_type(layer.raster.bands).kind in "iu"
        shade = shade_of(layer.raster, tolerance) if photo else None
        collar = _collar(layer.raster, shade, output) if shade is not None else None
        if shade is not None and collar is not None and collar.removed:
            removed, left = removed + collar.removed, left + collar.left_over
            shades |= {(tuple(colour), shade.tolerance) for colour in shade.colours.tolist()}
            layer = replace(layer, raster=Trimmed(layer.raster, collar))
        made.append(layer)
    count = sum(isinstance(layer.raster, Trimmed) for layer in made)
    chose = [fact("collars_trimmed", trimmed=count, inputs=len(layers))]
    if shades:
        (colour, within), *more = sorted(shades)
        chose.append(fact("collar_colour", colour=colour, within=within, others=len(more)))
    checks = [fact("collar_cells_removed", cells=removed)] if removed else []
    if left:
        checks.append(fact("collar_cells_left", cells=left))
    return made, chose, checks


def _collar(photo: Raster, shade: Shade, output: Output) -> Collar:
    return find_collar(photo, shade, lambda look, panes: over_panes(photo, panes, look, output.limits))


def _tolerance(inputs: Inputs) -> int | None:
    if inputs.collar_tolerance is None:
        return None
    if not inputs.trim_collar:
        raise UsageError("--collar-tolerance", "no collar is to be trimmed", "add --trim-collar")
    if not 0 <= inputs.collar_tolerance <= 65_535:
        raise UsageError(
            f"--collar-tolerance {inputs.collar_tolerance}",
            "it is a difference of values",
            "write --collar-tolerance 16",
        )
    return inputs.collar_tolerance
