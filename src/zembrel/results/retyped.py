"""Rasters in another cell type: what would lose values is refused unless it is allowed."""

from __future__ import annotations

import numpy as np

from zembrel.errors import RefusedError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.inputs.options import Output
from zembrel.measure import show_number
from zembrel.passes.survey import seen
from zembrel.raster.fit import TypeFit
from zembrel.raster.model import TYPES, Raster, shared_type
from zembrel.raster.views.cast import cast
from zembrel.raster.views.opacity import colours_of
from zembrel.raster.whole import is_wide


def check_type(wanted: str) -> None:
    """Raises UsageError for a name that is no cell type."""
    if wanted not in TYPES:
        raise UsageError(
            f"there is no cell type {wanted!r}", "cells have one of a few types", nearest_name(wanted, TYPES)
        )


def retyped(
    view: Raster, wanted: str, output: Output, what: str = "the result", remedy: str = "choose a wider --type"
) -> tuple[Raster, list[Fact]]:
    """`view` in the type `wanted`, and what that did to its values.

    what, remedy: what a refusal calls it, and what else it tells to do. Raises UsageError for a name that is
    no type, RefusedError for values outside of it without --clamp, and for lost fractions without --round.
    """
    check_type(wanted)
    source, target = shared_type(view.bands), np.dtype(wanted)
    if source == target or (np.can_cast(source, target) and not is_wide(source)):
        return cast(view, wanted), []
    fit = seen(colours_of(view), TypeFit(wanted), output.limits)
    told = f"its values run from {show_number(fit.low)} to {show_number(fit.high)}"
    if fit.outside and not output.clamp:
        raise RefusedError(
            f"{what} does not fit {wanted}: {_values(fit.outside)} outside",
            told,
            f"add --clamp to hold them at its ends, or {remedy}",
        )
    between_floats = source.kind == target.kind == "f"
    if fit.fractions and not (output.rounded or output.clamp or between_floats):
        raise RefusedError(
            f"{what} does not fit {wanted}: {_values(fit.fractions)} between its numbers",
            told,
            f"add --round, or {remedy}",
        )
    did = [fact("rounded", values=fit.fractions)] if fit.fractions else []
    return cast(view, wanted), [*did, *([fact("clamped", values=fit.outside)] if fit.outside else [])]


def _values(count: int) -> str:
    return "1 value lies" if count == 1 else f"{count:,} values lie"
