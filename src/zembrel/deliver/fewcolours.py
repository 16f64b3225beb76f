"""A photo or a map in as few colours as a chart may have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.engine.run import observe, over_panes
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band, Block, Raster
from zembrel.raster.perceptual import difference
from zembrel.raster.quantize import ColourCounts, median_cut
from zembrel.raster.views.coded import Coded, one_number
from zembrel.raster.views.quantized import Quantized

_SIDE, _SPOTS = 128, 12  # cells a side of a spot that is looked at, and spots each way
_EVERY = 4  # of which so many are compared
_BLOCK = 1_024  # cells a side, where all of a view is looked at
VOID = (255, 255, 255)


class FewColours(NamedTuple):
    """Codes of a palette from 1; void: the code of nothing; exact: whether no colour has changed."""

    view: Raster
    palette: Legend
    void: int
    exact: bool


@dataclass
class _Distinct:
    """Observer: the colours of valid cells, until there are more than `most`."""

    most: int
    colours: set[int] = field(default_factory=set)

    def look(self, pane: Pane, block: Block) -> Any:
        numbers = one_number(block.cells[:3])
        numbers = numbers.ravel() if block.valid is None else numbers[block.anywhere]
        few = np.unique(numbers[:: max(1, numbers.size // 4096)])
        return few if few.size > self.most else np.unique(numbers)

    def note(self, seen: Any) -> None:
        if not self.too_many:
            self.colours |= set(seen[: self.most + 1].tolist())

    @property
    def too_many(self) -> bool:
        return len(self.colours) > self.most


def in_few_colours(view: Raster, most: int, dither: str, limits: Limits) -> FewColours:
    """Red, green and blue bytes in up to `most` colours, one of which is the white of what is void.

    As they are, if there are no more; else a palette is made from spots all over the view.
    """
    distinct, counts = _Distinct(most - 1), ColourCounts()
    observe(view, spots_of(view), [distinct, counts], limits)
    if not distinct.too_many:  # in the spots; elsewhere there may be more
        counts = ColourCounts()
        observe(view, list(view.frame.pane.blocks(_BLOCK, _BLOCK)), [distinct, counts], limits)
    if not distinct.too_many:
        colours = sorted(distinct.colours | {one_colour(VOID)})
        palette = _palette([(n >> 16, n >> 8 & 255, n & 255) for n in colours])
        return FewColours(Coded(view, palette), palette, 1 + colours.index(one_colour(VOID)), True)
    made = median_cut(counts, most - 1)
    palette = _palette([*(entry.colour[:3] for entry in made.entries), VOID])
    return FewColours(Quantized(view, palette, dither), palette, len(palette.entries), False)


def how_unlike(view: Raster, few: FewColours, limits: Limits) -> tuple[float, float]:
    """Mean and 95th percentile of how unlike the colours look (distance in L*a*b*), in spots all over."""
    assert isinstance(few.view, Quantized)
    task = _Compared(few.view)
    found = np.concatenate([np.zeros(0), *over_panes(view, spots_of(view)[::_EVERY], task, limits)])
    return (float(found.mean()), float(np.percentile(found, 95))) if found.size else (0.0, 0.0)


@dataclass(frozen=True, eq=False)
class _Compared:
    """How unlike the cells of a spot look, which are asked for once."""

    coded: Quantized

    def __call__(self, pane: Pane) -> Any:
        block = self.coded.source.cells(pane)
        alone = replace(
            self.coded, source=_Held(self.coded.source.frame.crop(pane), self.coded.source.bands, block)
        )
        codes = alone.cells(alone.frame.pane).cells[0]
        away = difference(np.moveaxis(block.cells[:3], 0, -1), self.coded.palette.table()[codes])
        return away[block.anywhere]


@dataclass(frozen=True, eq=False)
class _Held:
    """A block as a raster."""

    frame: Frame
    bands: tuple[Band, ...]
    block: Block

    def cells(self, pane: Pane) -> Block:
        part = (slice(None), *pane.within(self.frame.pane))
        return Block(self.block.cells[part])


def spots_of(view: Raster) -> Sequence[Pane]:
    """Squares spread evenly over a view: all of a small one."""
    rows, columns = (-(-n // _SIDE) for n in view.frame.pane.shape)
    tops, lefts = (sorted({int(at) for at in np.linspace(0, n - 1, min(n, _SPOTS))}) for n in (rows, columns))
    spots = [Pane(r * _SIDE, c * _SIDE, (r + 1) * _SIDE, (c + 1) * _SIDE) for r in tops for c in lefts]
    met = [spot.meet(view.frame.pane) for spot in spots]
    return [spot for spot in met if spot is not None]


def one_colour(colour: tuple[int, ...]) -> int:
    return int(one_number(np.array(colour)))


def _palette(colours: Sequence[tuple[int, ...]]) -> Legend:
    return Legend.of(LegendEntry(code, "", (c[0], c[1], c[2])) for code, c in enumerate(colours, 1))
