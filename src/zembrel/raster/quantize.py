"""Few colours for many: a palette by median cut, and the nearest colour of one.

Source: P. Heckbert, "Color image quantization for frame buffer display", SIGGRAPH (1982).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Block

_BITS = 5  # of each colour that the histogram tells apart
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
    """A palette of up to `most` colours: boxes of colours are cut at their median where they are widest."""
    used = np.flatnonzero(counts.sums[0])
    weight = counts.sums[0, used]
    colours = (counts.sums[1:, used] / weight).T
    boxes = [np.arange(len(used))] if len(used) else []
    while boxes and len(boxes) < most:
        spans = [float(np.ptp(colours[box], axis=0).max() * weight[box].sum()) for box in boxes]
        widest = int(np.argmax(spans))
        if spans[widest] <= 0:
            break
        box = boxes.pop(widest)
        axis = int(np.argmax(np.ptp(colours[box], axis=0)))
        box = box[np.argsort(colours[box, axis], kind="stable")]
        half = np.cumsum(weight[box])
        cut = int(np.clip(np.searchsorted(half, half[-1] / 2) + 1, 1, len(box) - 1))
        boxes += [box[:cut], box[cut:]]
    means = [np.average(colours[box], axis=0, weights=weight[box]) for box in boxes]
    shades = sorted({tuple(int(v + 0.5) for v in mean) for mean in means}, key=lambda c: (sum(c), c))
    return Legend.of(LegendEntry(code, "", (r, g, b)) for code, (r, g, b) in enumerate(shades))


def nearest_table(palette: Legend) -> npt.NDArray[np.uint8]:
    """Code of the entry nearest to each colour of LOOKUP_BITS bits, red slowest: (2^18,)."""
    steps = 1 << LOOKUP_BITS
    axis = (np.arange(steps) + 0.5) * (256 / steps)
    entries = np.array([entry.colour for entry in palette.entries], np.float64)
    codes = np.array([entry.code for entry in palette.entries])
    table = np.empty((steps, steps, steps), np.uint8)
    for red in range(steps):
        away = (axis[red] - entries[:, 0]) ** 2
        green = (axis[:, None] - entries[:, 1]) ** 2
        blue = (axis[:, None] - entries[:, 2]) ** 2
        table[red] = codes[(green[:, None] + blue[None] + away).argmin(axis=2)]
    return table.ravel()
