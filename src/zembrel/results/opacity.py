"""Opacity where a format cannot hold it: told from plain validity, laid over a colour, or refused."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.errors import RefusedError, UsageError
from zembrel.facts import Fact, fact
from zembrel.grid.pane import Pane
from zembrel.inputs.options import Output
from zembrel.passes.survey import seen
from zembrel.raster.model import Block, Raster, has_alpha, shared_type
from zembrel.raster.views.opacity import Flattened, Settled, colours_of, top_of


@dataclass
class _Partial:
    """Observer: partly transparent cells, and the first of them."""

    top: float
    cells: int = 0
    first: tuple[int, int] | None = None

    def look(self, pane: Pane, block: Block) -> tuple[int, tuple[int, int] | None]:
        soft = (block.cells[-1] > 0) & (block.cells[-1] < self.top) & block.anywhere
        if not soft.any():
            return 0, None
        row, column = np.argwhere(soft)[0].tolist()
        return int(soft.sum()), (row + pane.top, column + pane.left)

    def note(self, seen: tuple[int, tuple[int, int] | None]) -> None:
        self.cells += seen[0]
        self.first = self.first or seen[1]


def settled(view: Raster, title: str, output: Output, *, holds: bool) -> tuple[Raster, list[Fact]]:
    """`view` with its opacity as a format called `title` takes it, and what was chosen for that.

    holds: whether the format holds opacity. Raises RefusedError where it does not, and some cells are partly
    transparent; UsageError for a colour that is none.
    """
    if not has_alpha(view.bands):
        return view, [fact("nothing_to_flatten")] if output.flatten else []
    if output.flatten:
        return Flattened(view, _background(view, output.flatten)), [fact("flattened", onto=output.flatten)]
    if holds:
        return Settled(view), [fact("opacity_kept")]
    if output.dry_run:
        return colours_of(view), [fact("opacity_left_out")]
    found = seen(view, _Partial(top_of(shared_type(view.bands))), output.limits)
    if found.first is not None:
        x, y = view.frame.centres(np.array([found.first[1]]), np.array([found.first[0]]))
        raise RefusedError(
            f"{title} cannot hold partly transparent cells",
            f"there are {found.cells:,}, the first at {x[0]:.10g},{y[0]:.10g}",
            "add --flatten white (or another colour) to blend them onto it, or write GeoTIFF, PNG or WebP",
        )
    return colours_of(view), [fact("opacity_as_validity")]


def colour_named(text: str, option: str) -> tuple[int, int, int]:
    """The red, green and blue that an option says. Raises UsageError."""
    from PIL import ImageColor

    try:
        red, green, blue = ImageColor.getrgb(text)[:3]
    except ValueError as exc:
        why = "that is no colour"
        raise UsageError(f"{option} {text}", why, f"write {option} white, or '#rrggbb'") from exc
    return red, green, blue


def _background(view: Raster, text: str) -> tuple[float, ...]:
    """The colour `text` in the type of the cells, one value a band. Raises UsageError."""
    colour: tuple[int, ...] = colour_named(text, "--flatten")
    count = len(view.bands) - 1
    if count == 1 and len(set(colour)) == 1:
        colour = colour[:1]
    if count != len(colour):
        raise UsageError(
            f"--flatten {text} for {count} band(s)",
            "a colour is red, green and blue; one band takes a grey",
            "choose bands with --bands, or write --flatten white",
        )
    top = top_of(shared_type(view.bands))
    return tuple(value / 255 * top for value in colour)
