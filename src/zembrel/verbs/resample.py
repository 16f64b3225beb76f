"""resample and reproject: a new cell size, a new CRS, or both."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.errors import UsageError
from zembrel.facts import Fact
from zembrel.formats import frame_of_name
from zembrel.inputs.collars import trimmed
from zembrel.inputs.intake import Given, take
from zembrel.inputs.landing import landing
from zembrel.inputs.layers import Layer
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.sharedcell import SharedCell
from zembrel.inputs.target import brought, decide, masked
from zembrel.inputs.within import no_new_crs
from zembrel.results.dispatch import by_kind
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write


@dataclass(frozen=True)
class Resampling:
    """How cells are made of others."""

    method: MethodName = "auto"


def resample(inputs: Inputs, where: Where, output: Output, resampling: Resampling = Resampling()) -> Receipt:
    """Each input on cells of another size. Raises UsageError without one."""
    if not where.cell and not where.onto and not where.longest:
        raise UsageError(
            "there is no new cell size",
            "resample needs one",
            "add --cell 10m, --longest 2000 or --onto FRAME",
        )
    if where.crs:
        raise UsageError("resample keeps the CRS", "--crs changes it", "use reproject")
    return _moved("resample", take(inputs, output), where, output, resampling.method)


def reproject(inputs: Inputs, where: Where, output: Output, resampling: Resampling = Resampling()) -> Receipt:
    """Each input in another CRS, its resolution kept unless a cell size is given.

    Several inputs get one cell size and one lattice, so that neighbours meet without gap or shift.
    """
    framed = frame_of_name(output.path, output.format, 1.0) is not None
    if not where.crs and not where.onto and not where.z_unit and not framed:
        raise no_new_crs()
    return by_kind("reproject", inputs, where, output, resampling)


def reproject_rasters(given: Given, where: Where, output: Output, resampling: Resampling) -> Receipt:
    """Each raster in another CRS. Raises UsageError where only heights would change."""
    if not where.crs and not where.onto and frame_of_name(output.path, output.format, 1.0) is None:
        raise no_new_crs()
    return _moved("reproject", given, where, output, resampling.method)


def _moved(verb: str, given: Given, where: Where, output: Output, method: str) -> Receipt:
    layers, unopened = opened(given, output)
    layers, collars, found = trimmed(layers, given.options, output)
    shared = SharedCell(layers, where)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        target = decide([layer], landing(where, final, output.format, layers), shared)
        view, chose = brought(layer, target, method)
        cover = target.cover() if target.asked.mask else None
        written = write(masked(view, cover), final, output, cover=cover)
        checks = (*written.checks, *found)
        return replace(written, checks=checks), [*target.chose, *chose, *collars]

    return one_to_one(verb, layers, output, make, unopened)
