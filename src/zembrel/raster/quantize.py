"""Few colours for many: a palette by median cut, refined, and the nearest colour of one.

Source: P. Heckbert, "Color image quantization for frame buffer display", SIGGRAPH (1982).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Block
from zembrel.raster.perceptual import to_lab
from zembrel.scipypart import scipy

_ROUNDS, _SETTLED = 20, 0.002  # at most, and the share of colours that may change in the last one
_BITS = 6  # of each colour that the histogram tells apart
LOOKUP_BITS = 6  # of each colour that tell the nearest entry of a palette
Array = npt.NDArray[np.float64]


@dataclass
class ColourCounts:
    """Observer: how many valid cells have about which red, green and blue, and the sums of those."""

    sums: Array = field(default_factory=lambda: np.zeros((4, 1 << 3 * _BITS)))

    def look(self, pane: Pane, block: Block) -> tuple[npt.NDArray[np.int64], Array]:
        colours = block.cells[:3, block.anywhere].astype(np.int64)
        shift = 8 - _BITS
        bins = ((colours[0] >> shift) << 2 * _BITS) | ((colours[1] >> shift) << _BITS) | (colours[2] >> shift)
        found, at = np.unique(bins, return_inverse=True)
        counts = [np.bincount(at, minlength=found.size)]
        counts += [np.bincount(at, band, found.size) for band in colours]
        return found, np.array(counts, np.float64)

    def note(self, seen: tuple[npt.NDArray[np.int64], Array]) -> None:
        bins, counts = seen
        self.sums[:, bins] += counts


def median_cut(counts: ColourCounts, most: int) -> Legend:
    """A palette of up to `most` colours, which are as people see them near to all that are there.

    Boxes of colours are cut at their median where these differ most, then the colours are moved to the middle
    of those that are nearest to them until little changes.
    """
    used = np.flatnonzero(counts.sums[0])
    weight = counts.sums[0, used]
    colours = (counts.sums[1:, used] / weight).T
    seen = to_lab(colours)
    boxes = [np.arange(len(used))] if len(used) else []
    spreads = [_spread(seen, weight, box) for box in boxes]
    while boxes and len(boxes) < most:
        widest = int(np.argmax([float(spread.max()) for spread in spreads]))
        if spreads[widest].max() <= 0:
            break
        box, axis = boxes.pop(widest), int(np.argmax(spreads.pop(widest)))
        box = box[np.argsort(seen[box, axis], kind="stable")]
        half = np.cumsum(weight[box])
        cut = int(np.clip(np.searchsorted(half, half[-1] / 2) + 1, 1, len(box) - 1))
        boxes += [box[:cut], box[cut:]]
        spreads += [_spread(seen, weight, part) for part in boxes[-2:]]
    owner = np.zeros(len(used), np.intp)
    for number, box in enumerate(boxes):
        owner[box] = number
    owner = _refined(seen, weight, owner, len(boxes))
    means = _means(colours, weight, owner, len(boxes))
    shades = sorted({tuple(int(v + 0.5) for v in mean) for mean in means}, key=lambda c: (sum(c), c))
    return Legend.of(LegendEntry(code, "", (r, g, b)) for code, (r, g, b) in enumerate(shades))


def _spread(seen: Array, weight: Array, box: npt.NDArray[np.intp]) -> Array:
    """How far colours lie from their middle along each axis, weighed by their cells."""
    if len(box) < 2:
        return np.zeros(3)
    away = seen[box] - np.average(seen[box], axis=0, weights=weight[box])
    return np.asarray((weight[box, None] * away**2).sum(axis=0))


def _refined(seen: Array, weight: Array, owner: npt.NDArray[np.intp], count: int) -> npt.NDArray[np.intp]:
    """The palette colour of each colour, after some rounds (S. P. Lloyd, "Least squares quantization in PCM",
    IEEE Transactions on Information Theory 28, 1982)."""
    for _ in range(_ROUNDS if count else 0):
        nearest = scipy("spatial").cKDTree(_means(seen, weight, owner, count)).query(seen)[1]
        changed, owner = (nearest != owner).mean(), nearest
        if changed < _SETTLED:
            break
    return owner


def _means(values: Array, weight: Array, owner: npt.NDArray[np.intp], count: int) -> Array:
    """The middle of those that each of `count` owns; of those that own nothing there is none."""
    cells = np.bincount(owner, weight, count)
    sums = [np.bincount(owner, weight * axis, count) for axis in values.T]
    return (np.array(sums)[:, cells > 0] / cells[cells > 0]).T


@lru_cache(maxsize=4)
def nearest_table(palette: Legend) -> npt.NDArray[np.uint8]:
    """Code of the entry that looks most like each colour of LOOKUP_BITS bits, red slowest: (2^18,)."""
    steps = 1 << LOOKUP_BITS
    axis = (np.arange(steps) + 0.5) * (256 / steps)
    grid = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1).reshape(-1, 3)
    entries = to_lab(np.array([entry.colour for entry in palette.entries]))
    codes = np.array([entry.code for entry in palette.entries], np.uint8)
    return np.asarray(codes[scipy("spatial").cKDTree(entries).query(to_lab(grid))[1]])
