"""Which method brings a layer to a frame: the asked one, or the one that suits its kind of values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import same
from zembrel.grid.extent import carried_cell
from zembrel.grid.frame import Frame
from zembrel.optiontext import OptionText
from zembrel.raster.codes import few_values
from zembrel.raster.method import Method, parse_method
from zembrel.raster.model import Raster, is_photo

MethodName = Annotated[
    str,
    OptionText(
        "Resampling method: auto, nearest, bilinear, cubic, lanczos, mean, mode, min, max, "
        "median, sum or percentile:25. A result cell needs half of its weight from cells with data.",
        "NAME",
    ),
]
_WORTH_A_WORD = 1.5  # times that cells may grow or shrink before it is said
_COARSER = 2.0  # times a cell grows along a side from which all cells in its footprint shall count


def choose_method(asked: str, raster: Raster, frame: Frame, average_codes: bool) -> tuple[Method, str]:
    """The method for `raster` on `frame`, and why.

    Codes are not averaged unless `average_codes`: nearest, or mode where cells grow at least twice.
    Continuous values: cubic, or the mean where cells grow at least twice. Raises UsageError for an
    unknown name, or one that averages codes.
    """
    method = None if asked == "auto" else parse_method(asked)
    if method is not None and (average_codes or not method.averages):
        return method, "as asked"
    kind = None if average_codes else codes_in(raster)
    if method is not None:
        if kind is not None:
            raise _averaging(method, kind)
        return method, "as asked"
    coarser = _growth(raster.frame, frame) >= _COARSER
    if kind is not None:
        return (Method("mode"), f"{kind}, coarser") if coarser else (Method("nearest"), kind)
    kind = "continuous colour" if is_photo(raster.bands) else "continuous values"
    return (Method("mean"), f"{kind}, coarser") if coarser else (Method("cubic"), kind)


def calm_method(rasters: Sequence[Raster], frame: Frame) -> str:
    """The method for heights of which none shall lie beyond those it is made of; `auto` for codes."""
    if any(codes_in(raster) for raster in rasters):
        return "auto"
    return "mean" if max(_growth(raster.frame, frame) for raster in rasters) >= _COARSER else "bilinear"


def codes_in(raster: Raster) -> str | None:
    """`classes` and how that is known, or None for values that measure something."""
    if any(band.categorical for band in raster.bands):
        return "classes"
    few = few_values(raster)
    return None if few is None else f"classes: {few} value{'s' if few != 1 else ''} seen"


def _averaging(method: Method, kind: str) -> UsageError:
    guessed = ", or --average-codes if they are no codes" if "seen" in kind else ""
    return UsageError(
        f"method {method} would average {kind.replace('classes', 'class codes')}",
        "the mean of two codes is a third class that is not there",
        f"use nearest or mode, or leave --method out{guessed}",
    )


def resolution_remark(raster: Raster, frame: Frame) -> list[Fact]:
    """A word where cells become so much coarser or finer that detail is lost or made up."""
    growth = _growth(raster.frame, frame)
    if 1 / _WORTH_A_WORD < growth < _WORTH_A_WORD:
        return []
    if growth > 1:
        return [fact("detail_lost", times=growth)]
    return [fact("detail_made_up", times=1 / growth)]


def _growth(source: Frame, target: Frame) -> float:
    """How many times as large (along a side) the cells of `target` are."""
    native = source.cell
    if source.crs is not None and target.crs is not None and not same(source.crs, target.crs):
        native = carried_cell(source, target.crs)
    return min(target.cell[0] / native[0], target.cell[1] / native[1])
