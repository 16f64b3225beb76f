"""Find the ground below unclassified points, from the lowest points of cells.

An opening by the window removes objects and crests (the top-hat of J. Serra, "Image Analysis and Mathematical
Morphology", 1982). The removed parts are classified at every height by their outlines (the component tree of
P. Salembier, A. Oliveras and L. Garrido, "Antiextensive connected operators for image and sequence
processing", IEEE Transactions on Image Processing 7(4), 1998). A roof steps up on nearly all of its outline,
however low it is. A terrace, a cape or the crest of a dam does not. A strip that falls on both sides and
continues at both ends is the deck of a bridge.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.optiontext import OptionText
from zembrel.points import kernels
from zembrel.scipypart import scipy

Surface = npt.NDArray[np.float32]  # (rows, columns), NaN where nothing is known
Mask = npt.NDArray[np.bool_]
_SMALL = 5.0  # metres; objects up to this width may have sloping sides, such as bushes
_DECK, _FALL = 1.0, 1.5  # metres: least height of a deck, and least fall beside it
_RUN = 3  # cells of an end of a deck
_RING = np.ones((5, 5), bool)  # around a pit
_RING[1:4, 1:4] = False


@dataclass(frozen=True)
class Filtering:
    """Parameters of the search for ground, in metres.

    window: width of the widest object; slope: steepest rise of the ground per metre; step: least height of an
    object and of its edges; near: greatest distance of ground points from the surface that is found; pit: a
    point this far below all of its surroundings is an error.
    """

    cell: Annotated[float, OptionText("Cell size for the search, in metres.", "METRES", short="-s")] = 1.0
    window: Annotated[float, OptionText("Width of the widest object to remove, in metres.", "METRES")] = 40.0
    slope: Annotated[float, OptionText("Steepest slope of the ground, in metres per metre.", "RISE")] = 0.6
    step: Annotated[float, OptionText("Smallest height of an object, in metres.", "METRES")] = 0.25
    near: Annotated[
        float, OptionText("Largest distance of ground points from the ground surface, in metres.", "METRES")
    ] = 0.25
    pit: Annotated[
        float, OptionText("Points this far below all their surroundings are errors, in metres.", "METRES")
    ] = 1.5

    def width(self, metres: float) -> int:
        """Return the width of a window in cells, an odd number."""
        return max(3, 2 * int(metres / self.cell / 2) + 1)

    @property
    def margin(self) -> int:
        """Return the cells around a block that influence its result."""
        return 2 * self.width(self.window) + len(_RING) + 8


class GroundSurface(NamedTuple):
    """A surface of the ground, and the doubtful cells.

    kept: ground cells in parts that step up on at least half of their outline; decks: cells removed as decks.
    """

    surface: Surface
    kept: Mask
    decks: Mask


class _Steps(NamedTuple):
    """Steps of a surface along rows and down columns, see `kernels.outlines`."""

    along: npt.NDArray[np.int8]
    down: npt.NDArray[np.int8]


def ground_surface(lowest: Surface, filtering: Filtering) -> GroundSurface:
    """Return the ground from the lowest points of cells, interpolated between ground cells."""
    known = np.isfinite(lowest)
    if not known.any():
        nothing = np.zeros(lowest.shape, bool)
        return GroundSurface(np.full_like(lowest, np.nan), nothing, nothing)
    known &= ~_pits(_filled(lowest, known), filtering)
    sources = _sources(known)
    surface = lowest[tuple(sources)]
    residue = _residue(surface, filtering.width(filtering.window))
    small, _ = _judged(surface, sources, _residue(surface, filtering.width(_SMALL)), filtering, sharp=False)
    kinds, steps = _judged(surface, sources, residue, filtering, sharp=True)
    raised = (small == kernels.outlines.RAISED) | (kinds == kernels.outlines.RAISED)
    decks = _decks(surface, steps, (residue > _DECK) & ~raised, filtering)
    doubtful = (kinds == kernels.outlines.DOUBTFUL) & ~raised & ~decks
    return GroundSurface(_between(surface, known & ~raised & ~decks), doubtful & known, decks & known)


def _sources(known: Mask) -> npt.NDArray[np.int32]:
    """Return row and column of the known cell nearest to each cell, (2, rows, columns)."""
    ndimage = scipy("ndimage")
    found = ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    return np.asarray(found, np.int32)


def _filled(values: Surface, known: Mask) -> Surface:
    """Return `values` with unknown cells set to the nearest known value."""
    return np.asarray(values[tuple(_sources(known))])


def _pits(surface: Surface, filtering: Filtering) -> Mask:
    """Return True for cells far below all cells two steps away: false echoes."""
    around = scipy("ndimage").minimum_filter(surface, footprint=_RING, mode="mirror")
    return np.asarray(surface < around - filtering.pit)


def _residue(surface: Surface, width: int) -> Surface:
    """Return what an opening by a square of `width` cells removes."""
    opened = scipy("ndimage").grey_opening(surface, size=(width, width), mode="nearest")
    return np.asarray(surface - opened)


def _judged(
    surface: Surface,
    sources: npt.NDArray[np.int32],
    residue: Surface,
    filtering: Filtering,
    *,
    sharp: bool,
) -> tuple[npt.NDArray[np.uint8], _Steps]:
    """Return the kind of part that each cell belongs to, and where the surface steps."""
    limits = filtering.step, filtering.slope * filtering.cell, sharp
    steps = _Steps(*kernels.outlines.steps(surface, sources, limits))
    cells = np.flatnonzero(residue.ravel() > filtering.step / 2)
    order = cells[np.argsort(-residue.ravel()[cells], kind="stable")]
    return kernels.outlines.raised(residue, order, *steps), steps


def _decks(surface: Surface, steps: _Steps, standing: Mask, filtering: Filtering) -> Mask:
    """Return True for strips that fall on both sides and continue at both ends."""
    ndimage = scipy("ndimage")
    strips = standing & _between_falls(surface, steps, filtering.width(filtering.window))
    core = ndimage.binary_opening(strips, np.ones((3, 3), bool))
    labels, count = ndimage.label(ndimage.binary_propagation(core, mask=strips))
    if not count:
        return np.zeros(surface.shape, bool)
    ends = _ends(labels, steps)
    runs, _ = ndimage.label(ndimage.binary_dilation(ends > 0, np.ones((3, 3), bool)), np.ones((3, 3), bool))
    pairs, cells = np.unique(np.stack([ends[ends > 0], runs[ends > 0]]), axis=1, return_counts=True)
    several = np.bincount(pairs[0, cells >= _RUN], minlength=count + 1) > 1
    several[0] = False
    return np.asarray(several[labels])


def _between_falls(surface: Surface, steps: _Steps, most: int) -> Mask:
    """Return True for cells between two falls on opposite sides, at most `most` cells apart."""
    found = np.zeros(surface.shape, bool)
    for down, across in ((0, 1), (1, 0), (1, 1), (1, -1)):
        one = kernels.outlines.to_falls(surface, *steps, (down, across), _FALL)
        other = kernels.outlines.to_falls(surface, *steps, (-down, -across), _FALL)
        found |= (one >= 0) & (other >= 0) & (one + other < most)
    return found


def _ends(labels: npt.NDArray[np.int32], steps: _Steps) -> npt.NDArray[np.int32]:
    """Return the strip's number for cells in which a strip continues without a step, (rows, columns)."""
    found = np.zeros_like(labels)
    for axis, step in enumerate((steps.down, steps.along)):
        first = (slice(None, -1), slice(None)) if axis == 0 else (slice(None), slice(None, -1))
        second = (slice(1, None), slice(None)) if axis == 0 else (slice(None), slice(1, None))
        smooth = step[first] == 0
        for one, other in ((first, second), (second, first)):
            beside = smooth & (labels[one] > 0) & (labels[other] == 0)
            found[other] = np.where(beside, labels[one], found[other])
    return found


def _between(surface: Surface, ground: Mask) -> Surface:
    """Ground cells as they are; the others by distance from the ground in four directions."""
    if not ground.any():
        return np.full_like(surface, np.nan)
    total, weight = np.zeros(surface.shape), np.zeros(surface.shape)
    for down, across in ((0, 1), (0, -1), (1, 0), (-1, 0)):
        value, away = _carried(surface, ground, down, across)
        share = np.where(away > 0, 1.0 / np.maximum(away, 1) ** 2, 0.0)
        total += np.where(share > 0, share * value, 0.0)
        weight += share
    nearest = _filled(surface, ground)
    between = np.where(weight > 0, total / np.maximum(weight, 1e-30), nearest)
    return np.where(ground, surface, between).astype(np.float32)


def _carried(
    surface: Surface, ground: Mask, down: int, across: int
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.int64]]:
    """The last ground seen from each cell in one direction, and how many cells away it is; 0 for none."""
    axis = 0 if down else 1
    flip = (down or across) < 0
    seen, values = (np.flip(a, axis) if flip else a for a in (ground, surface))
    index = np.arange(seen.shape[axis]).reshape((-1, 1) if axis == 0 else (1, -1))
    last = np.maximum.accumulate(np.where(seen, index, -1), axis=axis)
    value = np.take_along_axis(values, np.maximum(last, 0), axis=axis).astype(np.float64)
    away = np.where(last >= 0, index - last, 0)
    return (np.flip(value, axis), np.flip(away, axis)) if flip else (value, away)
