"""Values as whole numbers with a stored scale and offset, and back."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.errors import RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.grid.pane import Pane
from zembrel.measure import show_number
from zembrel.passes.survey import finite_ends, seen
from zembrel.raster.model import Block, Raster
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.cast import cast
from zembrel.raster.views.unscaled import unscaled

_TYPES = ("int16", "uint16", "int32", "uint8", "int8", "uint32")


@dataclass
class _Error:
    """Observer: the largest difference that scaling makes."""

    scale: float
    offset: float
    largest: float = 0.0

    def look(self, pane: Pane, block: Block) -> float:
        values = block.values.astype(np.float64)
        if not values.size:
            return 0.0
        codes = np.floor(values / self.scale - self.offset / self.scale + 0.5)
        return float(np.abs(codes * self.scale + self.offset - values).max())

    def note(self, seen: float) -> None:
        self.largest = max(self.largest, seen)


def scaled(view: Raster, wanted: str | None, step: str, limits: Limits) -> tuple[Raster, list[Fact]]:
    """`view` in whole numbers of `wanted` (int16 if not said), and what that costs.

    step: the scale as a number, or `auto` for the finest round one whose codes hold the range. Raises
    UsageError for a type or step that is none, RefusedError if the range does not fit.
    """
    kind = wanted or "int16"
    if kind not in _TYPES:
        raise UsageError(f"--type {kind} holds no scaled values", "whole numbers do", "write --type int16")
    least, most = np.iinfo(kind).min, np.iinfo(kind).max
    void = least if least < 0 else most
    low_code, high_code = (least + 1, most) if void < 0 else (0, most - 1)
    low, high = finite_ends(view, limits, "a scale is made for a range of values")
    scale = _step(step, (high - low) / (high_code - low_code))
    if low_code <= low / scale and high / scale <= high_code:
        offset = 0.0
    else:
        offset = (math.floor(low / scale) if void > 0 else round((low + high) / 2 / scale)) * scale
    codes = (low - offset) / scale, (high - offset) / scale
    if codes[0] < low_code - 0.5 or codes[1] > high_code + 0.5:
        raise RefusedError(
            f"steps of {show_number(scale)} do not fit {kind}",
            f"values from {show_number(low)} to {show_number(high)} make {codes[1] - codes[0]:,.0f} of them",
            f"write --scaled auto, or --type {'int32' if kind != 'int32' else 'float64'}",
        )
    error = seen(view, _Error(scale, offset), limits).largest
    bands = tuple(
        replace(band, type=kind, nodata=int(void), scale=scale, offset=offset) for band in view.bands
    )
    view = Relabelled(cast(view, kind, 1 / scale, -offset / scale), bands)
    said = fact("scaled", scale=scale, offset=offset, type=kind)
    return view, [said, fact("largest_error", error=error)]


def _step(text: str, least: float) -> float:
    """The scale asked for, or the next of 1, 2 or 5 times a power of ten from `least` on."""
    if text != "auto":
        try:
            step = float(text)
        except ValueError:
            step = math.nan
        if not (math.isfinite(step) and step > 0):
            raise UsageError(f"--scaled {text}", "a positive number or auto is needed", "write --scaled 0.1")
        return step
    if least <= 0:
        return 1.0
    power = math.floor(math.log10(least))
    choices = [float(f"{digit}e{power + more}") for more in (0, 1) for digit in (1, 2, 5)]
    return next(step for step in choices if step >= least * (1 - 1e-12))


def told_values(view: Raster) -> tuple[Raster, list[Fact]]:
    """The values that scaled bands stand for, as floats. Raises UsageError if no band is scaled."""
    plain = unscaled(view)
    if plain is view:
        raise UsageError(
            "no band has a scale or an offset", "its values are as they are", "leave --unscaled out"
        )
    pairs = sorted({(band.scale, band.offset) for band in view.bands})
    scales = tuple(f"scale {show_number(scale)} and offset {show_number(offset)}" for scale, offset in pairs)
    return plain, [fact("values_of_scale_as", scales=scales, type=plain.bands[0].type)]
