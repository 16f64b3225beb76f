"""Values along lines, and below them how far they differ, as a Matplotlib picture."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.draw.colouring import Look
from zembrel.draw.layout import Box, axes_at, new_figure, save
from zembrel.draw.ticks import INK, bare

Array = npt.NDArray[np.float64]
# distinct for readers of any colour vision: Okabe and Ito (2008), the darkest first
_COLOURS = ("#0072b2", "#d55e00", "#009e73", "#cc79a7", "#e69f00", "#56b4e9", "#000000")
_LEFT, _RIGHT, _TOP, _BOTTOM, _GAP = 86, 30, 96, 62, 34  # pixels
_BELOW = 0.34  # part of the height for differences


class Trace(NamedTuple):
    """A layer's values along the lines, NaN where there is none."""

    name: str
    values: Array


class Ground(NamedTuple):
    """Where samples lie: metres (or units) from the start, where lines begin, and the unit."""

    along: Array
    starts: Sequence[float]
    unit: str


def draw_profile(
    ground: Ground, traces: Sequence[Trace], axis: tuple[str, str], heading: str, path: Path, look: Look
) -> None:
    """Draw traces over the ground; axis: name and unit of values; heading: below the title."""
    figure = new_figure(look.width, look.height)
    several = len(traces) > 1
    room = look.height - _TOP - _BOTTOM
    foot = _BOTTOM + (room * _BELOW + _GAP if several else 0)
    upper = axes_at(figure, Box(_LEFT, foot, look.width - _RIGHT, look.height - _TOP))
    scale, unit = (1000.0, "km") if ground.unit == "m" and ground.along[-1] >= 5_000 else (1.0, ground.unit)
    along = ground.along / scale
    for trace, colour in zip(traces, _repeated(len(traces)), strict=True):
        upper.plot(along, trace.values, color=colour, linewidth=1.3, label=trace.name)
    name, unit_of = axis
    upper.set_ylabel(f"{name} ({unit_of})" if unit_of else name, fontsize=9, color=INK)
    upper.set_title(look.title or "", loc="left", fontsize=15, color=INK, pad=26)
    upper.text(
        0, 1 + 8 / (look.height - _TOP - foot), heading, transform=upper.transAxes, fontsize=9, color="#555"
    )
    lowest = upper
    if several:
        style = {"frameon": False, "fontsize": 9, "borderaxespad": 0.2, "ncols": min(len(traces), 4)}
        upper.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), **style)
        lowest = axes_at(figure, Box(_LEFT, _BOTTOM, look.width - _RIGHT, _BOTTOM + room * _BELOW))
        lowest.axhline(0, color="#888", linewidth=0.8)
        for trace, colour in list(zip(traces, _repeated(len(traces)), strict=True))[1:]:
            lowest.plot(along, trace.values - traces[0].values, color=colour, linewidth=1.1)
        unit_of_values = f" ({unit_of})" if unit_of else ""
        lowest.set_ylabel(f"less {traces[0].name}{unit_of_values}", fontsize=9, color=INK)
        upper.tick_params(labelbottom=False)
    lowest.set_xlabel(f"distance ({unit})" if unit else "distance", fontsize=9, color=INK)
    for axes in {id(axes): axes for axes in (upper, lowest)}.values():
        _plain(axes, along, [start / scale for start in ground.starts])
    save(figure, path)


def _plain(axes: Any, along: Array, starts: Sequence[float]) -> None:
    axes.set_xlim(along[0], along[-1])
    for start in starts[1:]:
        axes.axvline(start, color="#bbb", linewidth=0.8, linestyle="--")
    axes.grid(axis="y", color="#e4e2dd", linewidth=0.7)
    axes.set_axisbelow(True)
    bare(axes, 9, 5)


def _repeated(count: int) -> list[str]:
    return [_COLOURS[n % len(_COLOURS)] for n in range(count)]
