"""compare: how far two rasters differ, cell for cell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Annotated, Any, NamedTuple

import numpy as np

from zembrel import features, pictures
from zembrel.algebra.classchange import changes_of, confused, shift_of_classes, write_table
from zembrel.engine.commit import check_free
from zembrel.engine.run import observe
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS
from zembrel.grid.extent import footprint_of
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer, check_placed, take_layers
from zembrel.inputs.methods import codes_in
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.target import Target, brought
from zembrel.optiontext import OptionText
from zembrel.passes.shifts import ShiftEstimate, shift_between
from zembrel.raster.difference import Confusion, Differences, Subtracted
from zembrel.raster.displacement import Untold
from zembrel.raster.model import Raster
from zembrel.raster.passing import blocks_of
from zembrel.raster.views.bands import stack
from zembrel.raster.views.cast import cast
from zembrel.raster.views.place import crop
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.endings import BROWSER_PAGES, PICTURES, check_ending
from zembrel.results.receipt import Receipt
from zembrel.results.write import write

FAILED = 1  # exit code of a comparison that did not hold
LIMITED = ("share", "bias", "rms", "max", "shift", "cells", "equal", "alone")
PERCENTILES = (50, 90, 95, 99)


@dataclass(frozen=True)
class Comparing:
    """What counts as equal, what must hold (limits such as `max=12`, `share=0.99`), and what is made of it.

    tolerance: sizes of differences, of which `share` counts the first; method: how the second comes onto the
    cells of the first; difference: where a raster of differences goes, or of classes one of changes; table:
    where a table of the changes of classes goes.
    """

    tolerance: Annotated[
        float | Sequence[float],
        OptionText("Report the share of cells whose difference is within VALUE. Repeatable.", "VALUE"),
    ] = 0.0
    at_most: Annotated[
        tuple[str, ...],
        OptionText(
            "Fail if a figure is larger, e.g. max=12, rms=2 or shift=0.1. Repeatable.", "FIGURE=VALUE"
        ),
    ] = ()
    at_least: Annotated[
        tuple[str, ...],
        OptionText("Fail if a figure is smaller, e.g. share=0.99 or cells=1000. Repeatable.", "FIGURE=VALUE"),
    ] = ()
    method: Annotated[str, OptionText("Resampling method for the second raster.", "NAME")] = "auto"
    difference: Annotated[
        str | None, OptionText("Write the difference as a raster; for classes, each change of class.", "PATH")
    ] = None
    table: Annotated[
        str | None, OptionText("Write the changes of classes in cells, hectares and per cent.", "CSV")
    ] = None
    figure: Annotated[
        str | None, OptionText("Draw both rasters, their difference and its histogram.", "PICTURE")
    ] = None
    page: Annotated[
        str | None, OptionText("Write a web page to swipe and flicker between both rasters.", "HTML")
    ] = None

    @property
    def tolerances(self) -> tuple[float, ...]:
        """All of them, at least one."""
        held = self.tolerance
        return ((float(held),) if isinstance(held, int | float) else tuple(held)) or (0.0,)

    @property
    def products(self) -> dict[str, Path]:
        """What is to be written, by the option that names it."""
        named = {"difference": self.difference, "table": self.table, "figure": self.figure, "page": self.page}
        return {option: Path(path) for option, path in named.items() if path}


class Compared(NamedTuple):
    """Two rasters on the cells that both have, how many cells lie outside of these, and what was chosen."""

    one: Raster
    other: Raster
    outside: int
    chose: tuple[Fact, ...]


def compare(inputs: Inputs, output: Output, comparing: Comparing) -> Receipt:
    """Figures of the difference of two rasters, the first less the second; exit code 1 if a limit does not
    hold. The second is brought onto the cells of the first.

    Raises InputError where they have nothing in common.
    """
    limits = [(*_limit(text), True) for text in comparing.at_most]
    limits += [(*_limit(text), False) for text in comparing.at_least]
    _check_products(comparing, output)
    layers = take_layers(inputs, output)
    if len(layers) != 2:
        raise UsageError(
            f"compare takes two rasters, not {len(layers)}",
            "each cell of one has one in the other",
            "name two",
        )
    pair = _common(layers[0], layers[1], comparing.method)
    found, classes = _looked(pair, comparing, output)
    shift = shift_between(pair.one, pair.other, output.limits)
    if classes is not None:
        shift = shift_of_classes(shift, classes, pair.one, pair.other, output.limits)
    figures = found.figures()
    told = isinstance(shift, ShiftEstimate)
    values: dict[str, float | None] = {**figures, "shift": None}
    if isinstance(shift, ShiftEstimate):
        values["shift"] = (shift.columns**2 + shift.rows**2) ** 0.5
    met = [(name, values[name], value, most) for name, value, most in limits]
    broken = [_told(*limit) for limit in met if not _holds(*limit[1:])]
    facts = _facts(found, classes, shift, pair, comparing)
    paths = tuple(layer.path for layer in layers)
    if comparing.difference:
        _write_difference(pair, classes, comparing, output)
    if comparing.table and classes is not None:
        write_table(classes, pair.one, pair.other, Path(comparing.table), output)
    if comparing.figure or comparing.page:
        _draw(pair, found, facts, paths, comparing, output)
    return Receipt(
        "compare",
        paths,
        frame=pair.one.frame,
        chose=pair.chose,
        checks=tuple(broken) or ((fact("limits_hold"),) if limits else ()),
        products=comparing.products,
        own={**facts, "no_shift": None if told else str(shift.value)},  # type: ignore[union-attr]
        exit_code=FAILED if broken else 0,
    )


def _check_products(comparing: Comparing, output: Output) -> None:
    """Raise UsageError or RefusedError for what cannot be written, or a tolerance that is none."""
    for path in comparing.products.values():
        check_free(path, output.replace)
    if comparing.figure:
        check_ending(Path(comparing.figure), PICTURES)
    if comparing.page:
        check_ending(Path(comparing.page), BROWSER_PAGES, "page")
    if not np.isfinite(comparing.tolerances).all() or min(comparing.tolerances) < 0:
        raise UsageError("--tolerance is no size", "it is 0 or more", "write --tolerance 0.5")


def _looked(pair: Compared, comparing: Comparing, output: Output) -> tuple[Differences, Confusion | None]:
    """Differences, and how classes are confused if both hold some."""
    both = stack((pair.one, pair.other))
    found = Differences(comparing.tolerances)
    kinds = all(codes_in(raster) and len(raster.bands) == 1 for raster in (pair.one, pair.other))
    if comparing.table and not kinds:
        raise UsageError(
            "--table lists changes of classes",
            "these two hold values",
            "leave --table out, or classify first",
        )
    frame = pair.one.frame
    placed = bool(comparing.table) and isinstance(frame.crs, GeographicCRS | ProjectedCRS)
    size_of = partial(features.ground.cell_areas, frame) if placed else None
    confusion = Confusion(size_of) if kinds else None
    observe(both, blocks_of(both), [found, *([confusion] if confusion else [])], output.limits)
    return found, confusion


def _facts(
    found: Differences,
    classes: Confusion | None,
    shift: ShiftEstimate | Untold,
    pair: Compared,
    comparing: Comparing,
) -> dict[str, Any]:
    """All that was found, for programs."""
    figures = found.figures()
    same = figures["equal"] == figures["cells"] > 0
    whole = not figures["alone"] and not pair.outside
    difference, band, row, column = found.worst
    x, y = (float(v[0]) for v in pair.one.frame.centres(np.array([column * 1.0]), np.array([row * 1.0])))
    low, high = (found.low, found.high) if found.cells else (None, None)
    return {
        "verdict": "different" if not same else "identical" if whole else "equal where both have cells",
        **figures, "low": low, "high": high, "tolerance": comparing.tolerances[0],
        "shares": [{"within": size, "share": share} for size, share in
                   zip(comparing.tolerances, found.shares, strict=True)],
        "percentiles": dict(zip(map(str, PERCENTILES), found.percentiles(PERCENTILES), strict=True)),
        "worst": None if not difference else {"difference": difference, "x": x, "y": y, "band": band + 1},
        "first_alone": found.one_alone, "second_alone": found.other_alone, "outside": pair.outside,
        "shift": shift._asdict() if isinstance(shift, ShiftEstimate) else None,
        "classes": None if classes is None else confused(classes, pair.one, pair.other),
    }  # fmt: skip


def _limit(text: str) -> tuple[str, float]:
    name, equals, value = text.partition("=")
    try:
        number = float(value)
    except ValueError:
        equals = ""
    if not equals or name not in LIMITED:
        raise UsageError(
            f"{text!r} is no limit",
            f"FIGURE=VALUE is needed, of {', '.join(LIMITED)}",
            nearest_name(name, LIMITED) if name not in LIMITED else "write max=12",
        )
    return name, number


def _holds(found: float | None, value: float, most: bool) -> bool:
    return found is not None and (abs(found) <= value if most else abs(found) >= value)


def _told(name: str, found: float | None, value: float, most: bool) -> Fact:
    if found is None:
        return fact("limit_unknown", figure=name)
    return fact("limit_passed", figure=name, value=found, most=most, limit=value)


def _common(first: Layer, second: Layer, method: str) -> Compared:
    """What both cover, on the cells of the first.

    Raises InputError for unlike bands, or where no cell is in common.
    """
    one, other = unscaled(first.raster), unscaled(second.raster)
    if len(one.bands) != len(other.bands):
        raise InputError(
            f"{first.path} has {len(one.bands)} bands, {second.path} {len(other.bands)}",
            "each is compared with its like",
            "choose with --bands",
        )
    apart = InputError(
        f"{first.path} and {second.path} do not meet", "they share no cell", "check the two files"
    )
    offset = one.frame.offset_to(other.frame)
    if offset is not None:
        row, column = offset
        a, b = one.frame.pane, other.frame.pane
        shared = a.meet(Pane(row, column, row + b.rows, column + b.columns))
        if shared is None:
            raise apart
        back = Pane(shared.top - row, shared.left - column, shared.bottom - row, shared.right - column)
        return Compared(crop(one, shared), crop(other, back), a.size + b.size - 2 * shared.size, ())
    check_placed([first, second])
    pane = footprint_of(other.frame, one.frame)
    if pane is None:
        raise apart
    target = Target(one.frame.crop(pane))
    view, said = brought(second, target, method)
    chose = (fact("brought_onto", second=second.path.name, first=first.path.name), *said)
    return Compared(crop(one, pane), unscaled(view), one.frame.size - pane.size, chose)


def _write_difference(
    pair: Compared, classes: Confusion | None, comparing: Comparing, output: Output
) -> None:
    """The first less the second; of classes what became what."""
    one, other = pair.one, pair.other
    out = Path(str(comparing.difference))
    if classes is not None:
        write(changes_of(classes, one, other), out, replace(output, keep_empty=True))
        return
    apart = Subtracted(one, other)
    short = max(band.dtype.itemsize for band in (*one.bands, *other.bands)) <= 4
    view: Raster = cast(apart, "float32") if short else apart
    write(view, out, replace(output, keep_empty=True))


def _draw(
    pair: Compared, found: Differences, facts: dict[str, Any], paths: Sequence[Path], comparing: Comparing,
    output: Output,
) -> None:  # fmt: skip
    figures = pictures.comparefigures
    compared = figures.ComparedPair(pair.one, pair.other, found, facts, figures.names_of(paths))
    if comparing.figure:
        figures.write_figure(compared, Path(comparing.figure), output)
    if comparing.page:
        figures.write_page(compared, Path(comparing.page), output)
