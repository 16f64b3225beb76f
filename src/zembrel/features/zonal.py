"""Cells of rasters summed up in zones, those on an edge by the share that is inside."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from zembrel.features.scanned import outlines
from zembrel.features.stats import Stat
from zembrel.features.table import Geometries
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.kernels import scan
from zembrel.raster.kernels import tally as kernel
from zembrel.raster.model import Block, Raster

MOMENTS = ("count", "sum", "mean", "min", "max", "deviation")
_EMPTY = (0.0, 0.0, 0.0, np.inf, -np.inf)
AT_ONCE = 4_000_000  # cells of a zone that are looked at together


class ZoneSums:
    """An observer: shares, sums, sums of squares, lowest and highest values of one band in each zone."""

    def __init__(self, zones: Geometries, frame: Frame) -> None:
        self._outlines = outlines(zones, np.arange(len(zones), dtype=float), frame, turned=True)
        self.sums = np.tile(np.array(_EMPTY), (len(zones), 1))

    def look(self, pane: Pane, block: Block) -> tuple[Array, Array]:
        here = self._outlines.meeting(pane)
        values = block.cells[0]
        if values.dtype != np.float32:
            values = values.astype(np.float64)
        known = np.zeros((0, 0), bool) if block.valid is None else np.ascontiguousarray(block.valid_of(0))
        sums = np.tile(np.array(_EMPTY), (len(here.values), 1))
        values = np.ascontiguousarray(values)
        kernel.in_zones(values, known, here.edges, here.starts, here.boxes, pane.top, pane.left, sums)
        return here.values, sums

    def note(self, seen: tuple[Array, Array]) -> None:
        zones, sums = seen
        at = zones.astype(np.int64)
        np.add.at(self.sums[:, :3], at, sums[:, :3])
        np.minimum.at(self.sums[:, 3], at, sums[:, 3])
        np.maximum.at(self.sums[:, 4], at, sums[:, 4])

    def result(self, name: str) -> Array:
        """A statistic of each zone, NaN where it holds nothing."""
        weight, total, squares, low, high = self.sums.T
        if name == "count":
            return np.array(weight)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = total / weight
            found = {
                "sum": total, "mean": mean, "min": low, "max": high,
                "deviation": np.sqrt(np.maximum(squares / weight - mean * mean, 0.0)),
            }  # fmt: skip
        kept: Array = np.where(weight > 0, found[name], np.nan)
        return kept


@dataclass(frozen=True)
class Held:
    """Values in a zone, each once, in their order, and how many cells have them."""

    values: Array
    weights: Array

    def rank(self, share: float) -> float:
        """The value below which `share` of the cells lie, between neighbours by their middles, or NaN."""
        if not self.values.size:
            return float("nan")
        middles = np.cumsum(self.weights) - self.weights / 2
        return float(np.interp(share * self.weights.sum(), middles, self.values))

    @property
    def most(self) -> float:
        """The value of most cells, the lowest of equals; NaN for none."""
        return float(self.values[np.argmax(self.weights)]) if self.values.size else float("nan")


@dataclass(frozen=True, eq=False)
class HeldIn:
    """The task of gathering the values of the first band of `raster` in a zone by its number; zones are in
    the CRS of the frame."""

    raster: Raster
    zones: Geometries

    def __call__(self, number: int) -> Held:
        return _held(self.raster, self.zones[number])


def _held(raster: Raster, zone: shapely.Geometry) -> Held:
    frame = raster.frame
    drawn = outlines([zone], [0.0], frame, turned=True)
    box = drawn.boxes
    if not len(box):
        return Held(np.empty(0), np.empty(0))
    left, top = np.floor(box[:, :2].min(axis=0)).astype(int)
    right, bottom = np.ceil(box[:, 2:].max(axis=0)).astype(int)
    pane = Pane(int(top), int(left), int(bottom), int(right)).meet(frame.pane)
    values, weights = np.empty(0), np.empty(0)
    for part in pane.blocks(max(1, AT_ONCE // pane.columns), pane.columns) if pane is not None else ():
        block, share = raster.cells(part), np.zeros(part.shape)
        scan.covered(drawn.edges, part.top, part.left, share)
        inside = (share > 1e-12) & block.valid_of(0)
        all_values = np.concatenate([values, block.cells[0][inside].astype(np.float64)])
        all_weights = np.concatenate([weights, np.minimum(share[inside], 1.0)])
        values, number = np.unique(all_values, return_inverse=True)
        weights = np.asarray(np.bincount(number, all_weights, values.size), np.float64)
    return Held(values, weights)


def ranked(held: Sequence[Held], stats: Sequence[Stat], name_of: Callable[[float], str]) -> dict[str, Array]:
    """Medians, percentiles, majorities and histograms of what each zone holds, by their labels.

    name_of: what a value is called in the label of its share of the cells.
    """
    found: dict[str, Array] = {}
    for stat in stats:
        if stat.name == "majority":
            found[stat.label] = np.array([part.most for part in held])
        elif stat.name != "histogram":
            found[stat.label] = np.array([part.rank(stat.share) for part in held])
        else:
            for value in np.unique(np.concatenate([part.values for part in held])).tolist():
                shares = [
                    part.weights[part.values == value].sum() / max(part.weights.sum(), 1e-300)
                    for part in held
                ]
                found[f"share_{name_of(value)}"] = np.array(shares)
    return found
