"""Cells of rasters summed up in zones, those on an edge by the share that is inside."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from zembrel.features.scanned import Outlines, outlines
from zembrel.features.stats import Stat
from zembrel.features.table import Geometries
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.moments import Moments
from zembrel.raster.kernels import tally as kernel
from zembrel.raster.model import Block, Mask
from zembrel.statistics import STATISTICS, Gathered, Held

Integers = npt.NDArray[np.int64]
_EMPTY = (0.0, 0.0, 0.0, np.inf, -np.inf)


def zone_outlines(zones: Geometries, frame: Frame) -> Outlines:
    """Zones, in the CRS of `frame`, each with its number."""
    return outlines(zones, np.arange(len(zones), dtype=float), frame, turned=True)


def _seen(block: Block) -> tuple[Array, Mask]:
    """Values of the first band, and which are known, (0, 0) for all."""
    values = block.cells[0]
    if values.dtype != np.float32:
        values = values.astype(np.float64)
    known = np.zeros((0, 0), bool) if block.valid is None else np.ascontiguousarray(block.valid_of(0))
    return np.ascontiguousarray(values), known


class ZoneSums:
    """An observer: shares, sums, centred squares, lowest and highest values of one band in each zone."""

    def __init__(self, zones: Outlines, count: int) -> None:
        self._outlines = zones
        self.sums = np.tile(np.array(_EMPTY), (count, 1))

    def look(self, pane: Pane, block: Block) -> tuple[Array, Array]:
        here = self._outlines.meeting(pane)
        sums, (values, known) = np.tile(np.array(_EMPTY), (len(here.values), 1)), _seen(block)
        kernel.in_zones(values, known, here.edges, here.starts, here.boxes, pane.top, pane.left, sums)
        return here.values, sums

    def note(self, seen: tuple[Array, Array]) -> None:
        zones, sums = seen
        at = zones.astype(np.int64)
        self.sums[at, :3] = np.transpose(Moments(*self.sums[at, :3].T).plus(Moments(*sums[:, :3].T)))
        self.sums[at, 3] = np.minimum(self.sums[at, 3], sums[:, 3])
        self.sums[at, 4] = np.maximum(self.sums[at, 4], sums[:, 4])

    def result(self, name: str) -> Array:
        """A statistic of each zone, NaN where it holds nothing."""
        made = STATISTICS[name].of_parts
        if made is None:
            raise LookupError(name)
        with np.errstate(invalid="ignore"):
            return np.array(made(Gathered(Moments(*self.sums[:, :3].T), self.sums[:, 3], self.sums[:, 4])))


class ZoneValues:
    """An observer: the values of one band in each zone, and the cells that have them; each once in a pane."""

    def __init__(self, zones: Outlines, count: int) -> None:
        self._outlines = zones
        self.parts: list[list[Held]] = [[] for _ in range(count)]

    def look(self, pane: Pane, block: Block) -> tuple[Array, Integers, Array, Array]:
        here, (values, known) = self._outlines.meeting(pane), _seen(block)
        room = kernel.room_of_zones(here.boxes, pane.top, pane.left, *pane.shape)
        held, weights, ends = np.empty(room), np.empty(room), np.zeros(len(here.values), np.int64)
        kernel.values_in_zones(
            values, known, here.edges, here.starts, here.boxes, pane.top, pane.left, held, weights, ends
        )
        used = int(ends[-1]) if ends.size else 0
        return here.values, ends, held[:used].copy(), weights[:used].copy()

    def note(self, seen: tuple[Array, Integers, Array, Array]) -> None:
        zones, ends, values, weights = seen
        begin = 0
        for zone, end in zip(zones.astype(int).tolist(), ends.tolist(), strict=True):
            if end > begin:
                self.parts[zone].append(Held(values[begin:end], weights[begin:end]))
            begin = end


def joined(parts: Sequence[Held]) -> Held:
    """What a zone holds, of which panes gave parts."""
    if len(parts) < 2:
        return parts[0] if parts else Held(np.empty(0), np.empty(0))
    values, weights = (
        np.concatenate(held) for held in zip(*((p.values, p.weights) for p in parts), strict=True)
    )
    order = np.argsort(values)
    values = values[order]
    first = np.flatnonzero(np.concatenate([[True], values[1:] != values[:-1]]))
    return Held(values[first], np.add.reduceat(weights[order], first))


def ranked(
    held: Sequence[Held], stats: Sequence[Stat], name_of: Callable[[float], str], *, codes: bool = False
) -> dict[str, Array]:
    """Medians, percentiles, majorities and histograms of what each zone holds, by their labels.

    name_of: what a value is called in the label of its share of the cells; codes: whether only a value that
    occurs means anything.
    """
    found: dict[str, Array] = {}
    for stat in stats:
        if stat.name == "histogram":
            for value in np.unique(np.concatenate([part.values for part in held])).tolist():
                shares = [
                    part.weights[part.values == value].sum() / max(part.weights.sum(), 1e-300)
                    for part in held
                ]
                found[f"share_{name_of(value)}"] = np.array(shares)
            continue
        record = STATISTICS[stat.name]
        made = record.of_codes if codes else record.of_held
        if made is None:
            raise LookupError(stat.name)
        found[stat.label] = np.array([made(part, stat.share) for part in held])
    return found
