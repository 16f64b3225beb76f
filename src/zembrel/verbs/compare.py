"""compare: how far two rasters differ, cell for cell."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrel.draw.picture import Look, draw_picture
from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.grid.pane import Pane
from zembrel.raster.difference import Differences, Subtracted
from zembrel.raster.displacement import displacement
from zembrel.raster.model import Raster
from zembrel.raster.views.bands import stack
from zembrel.raster.views.place import crop
from zembrel.raster.views.unscaled import unscaled
from zembrel.verbs.layers import Layer, take_layers
from zembrel.verbs.options import Inputs, Output
from zembrel.verbs.phrases import frame_items
from zembrel.verbs.receipt import Receipt
from zembrel.verbs.survey import seen

FAILED = 1  # exit code of a comparison that did not hold
_FIGURES = ("share", "mean", "rms", "max", "cells", "equal", "alone")
_PROBE = 512  # cells a side of what a shift is estimated from


@dataclass(frozen=True)
class Comparing:
    """What counts as equal, and what must hold: limits such as `max=12` and `share=0.99`."""

    tolerance: float = 0.0
    at_most: tuple[str, ...] = ()
    at_least: tuple[str, ...] = ()
    figure: str | None = None


def compare(inputs: Inputs, output: Output, comparing: Comparing) -> Receipt:
    """Figures of the difference of two rasters on one lattice; exit code 1 if a limit does not hold.

    Raises InputError where their cells do not lie on each other.
    """
    limits = [(*_limit(text), True) for text in comparing.at_most]
    limits += [(*_limit(text), False) for text in comparing.at_least]
    if comparing.figure:
        check_free(Path(comparing.figure), output.replace)
    layers = take_layers(inputs, output)
    if len(layers) != 2:
        raise UsageError(
            f"compare takes two rasters, not {len(layers)}",
            "each cell of one has one in the other",
            "name two",
        )
    one, other, outside = _common(*layers)
    found = seen(stack((one, other)), Differences(comparing.tolerance), output.limits)
    figures = found.figures()
    shift = _shift(one, other)
    broken = [
        _told(name, figures[name], value, most)
        for name, value, most in limits
        if not _holds(figures[name], value, most)
    ]
    if comparing.figure:
        _draw(Subtracted(one, other), Path(comparing.figure), found, layers, output)
    same = figures["equal"] == figures["cells"] > 0
    whole = not figures["alone"] and not outside
    verdict = "different" if not same else "identical" if whole else "equal where both have cells"
    low, high = (found.low, found.high) if found.cells else (None, None)
    return Receipt(
        "compare",
        tuple(layer.path for layer in layers),
        frame=one.frame,
        checks=tuple(broken) or (("all limits hold",) if limits else ()),
        products={"figure": Path(comparing.figure)} if comparing.figure else {},
        own={
            "verdict": verdict, **figures, "low": low, "high": high, "tolerance": comparing.tolerance,
            "first_alone": found.one_alone, "second_alone": found.other_alone, "outside": outside,
            "shift": shift, "broken": broken,
        },
        exit_code=FAILED if broken else 0,
    )  # fmt: skip


def _limit(text: str) -> tuple[str, float]:
    name, equals, value = text.partition("=")
    try:
        number = float(value)
    except ValueError:
        equals = ""
    if not equals or name not in _FIGURES:
        raise UsageError(
            f"{text!r} is no limit",
            f"FIGURE=VALUE is needed, of {', '.join(_FIGURES)}",
            nearest_name(name, _FIGURES) if name not in _FIGURES else "write max=12",
        )
    return name, number


def _holds(found: float, value: float, most: bool) -> bool:
    return found <= value if most else found >= value


def _told(name: str, found: float, value: float, most: bool) -> str:
    return f"{name} is {found:.6g}, {'more' if most else 'less'} than {value:g}"


def _common(first: Layer, second: Layer) -> tuple[Raster, Raster, int]:
    """What both cover, and how many cells lie outside. Raises InputError for unlike lattices or bands."""
    one, other = unscaled(first.raster), unscaled(second.raster)
    if len(one.bands) != len(other.bands):
        raise InputError(
            f"{first.path} has {len(one.bands)} bands, {second.path} {len(other.bands)}",
            "each is compared with its like",
            "choose with --bands",
        )
    offset = one.frame.offset_to(other.frame)
    if offset is None:
        raise InputError(
            f"the cells of {first.path} and {second.path} do not lie on each other",
            " and ".join(" ".join(frame_items(raster.frame)) for raster in (one, other)),
            f"bring one to the other: zembrel resample {second.path} --onto {first.path}",
        )
    row, column = offset
    a, b = one.frame.pane, other.frame.pane
    shared = a.meet(Pane(row, column, row + b.rows, column + b.columns))
    if shared is None:
        raise InputError(
            f"{first.path} and {second.path} do not meet", "they share no cell", "check the two files"
        )
    back = Pane(shared.top - row, shared.left - column, shared.bottom - row, shared.right - column)
    return crop(one, shared), crop(other, back), a.size + b.size - 2 * shared.size


def _shift(one: Raster, other: Raster) -> dict[str, float] | None:
    """How far the second seems to lie off, from a part in the middle; None where that cannot be told."""
    frame = one.frame
    rows, columns = min(_PROBE, frame.rows), min(_PROBE, frame.columns)
    top, left = (frame.rows - rows) // 2, (frame.columns - columns) // 2
    pane = Pane(top, left, top + rows, left + columns)
    pictures = []
    for raster in (one, other):
        block = raster.cells(pane)
        pictures.append(np.where(block.valid_of(0), block.cells[0].astype(np.float64), np.nan))
    found = displacement(*pictures)
    return None if found is None else {"columns": found.columns, "rows": found.rows, "alike": found.alike}


def _draw(pair: Subtracted, path: Path, found: Differences, layers: list[Layer], output: Output) -> None:
    most = max(abs(found.low), abs(found.high)) if found.cells and found.equal < found.cells else 1.0
    look = Look(ramp="RdBu", limits=(-most, most), title=f"{layers[0].path.stem} less {layers[1].path.stem}")
    with Staging(output.replace) as staging:
        staged = staging.path_for(path)
        with resource_errors(path):
            draw_picture(pair, staged, look, str(look.title), output.limits)
        staging.publish()
