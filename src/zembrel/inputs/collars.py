"""Collars of photos: trimmed where that is asked for, with the numbers of what was taken and left."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

from zembrel.engine.run import over_panes
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Inputs, Output
from zembrel.raster.model import Raster, is_photo, shared_type
from zembrel.raster.views.collar import Collar, Shade, Trimmed, find_collar, shade_of

Found = tuple[tuple[int, ...], int]  # a colour, and the tolerance around it


def trimmed(
    layers: Sequence[Layer], inputs: Inputs, output: Output
) -> tuple[list[Layer], list[Fact], list[Fact]]:
    """The layers, photos without their collars if that is asked for; what was chosen, and what was found.

    Raises UsageError for a tolerance that is none.
    """
    tolerance = _tolerance(inputs)
    if not inputs.trim_collar or output.dry_run:
        return list(layers), [], []
    made, shades = list[Layer](), set[Found]()
    found, without = list[tuple[str, Collar]](), list[str]()
    for layer in layers:
        photo = is_photo(layer.raster.bands) and shared_type(layer.raster.bands).kind in "iu"
        shade = shade_of(layer.raster, tolerance) if photo else None
        collar = _collar(layer.raster, shade, output) if shade is not None else None
        if shade is not None and collar is not None and collar.removed:
            found.append((layer.path.name, collar))
            shades |= {(tuple(colour), shade.tolerance) for colour in shade.colours.tolist()}
            layer = replace(layer, raster=Trimmed(layer.raster, collar))
        else:
            without.append(layer.path.name)
        made.append(layer)
    return made, _chosen(shades, without, len(layers)), _found(found)


def _chosen(shades: Collection[Found], without: Sequence[str], inputs: int) -> list[Fact]:
    chose = [fact("collars_trimmed", trimmed=inputs - len(without), inputs=inputs)]
    if without:
        chose.append(fact("collars_not_found", names=tuple(without)))
    if shades:
        (colour, within), *more = sorted(shades)
        chose.append(fact("collar_colour", colour=colour, within=within, others=len(more)))
    return chose


def _found(found: Sequence[tuple[str, Collar]]) -> list[Fact]:
    """How many cells of which sheets went, and how many like them stayed."""
    if not found:
        return []
    each = tuple((name, collar.removed) for name, collar in found)
    checks = [fact("collar_cells_removed", cells=sum(cells for _, cells in each), sheets=each)]
    left = tuple((name, collar.left_over) for name, collar in found if collar.left_over)
    if left:
        checks.append(fact("collar_cells_left", cells=sum(cells for _, cells in left), sheets=left))
    return checks


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
