"""Ground under points without classes: what stands out and steps up all around is none.

What stands out is what an opening by the window takes away (the top-hat of J. Serra, "Image Analysis and
Mathematical Morphology", 1982). Its parts at every height are judged by their outlines (the component tree
of P. Salembier, A. Oliveras and L. Garrido, "Antiextensive connected operators for image and sequence
processing", IEEE Transactions on Image Processing 7(4), 1998): a roof steps up nearly all around, however
low it is; a terrace, a cape or the crest of a dam does not. A strip that falls away on both sides and goes
on at both ends is the deck of a bridge.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.points import kernels
from zembrel.scipypart import scipy

Surface = npt.NDArray[np.float32]  # (rows, columns), NaN where nothing is known
Mask = npt.NDArray[np.bool_]
_SMALL = 5.0  # metres of things whose sides may slope: bushes and cars
_DECK, _FALL = 1.0, 1.5  # metres that a deck stands out, and that the surface falls beside it
_RUN = 3  # cells of an end of a deck
_RING = np.ones((5, 5), bool)  # around a pit
_RING[1:4, 1:4] = False


@dataclass(frozen=True)
class Filtering:
    """Sizes in metres. window: the widest thing that is no ground; slope: rise of the ground per metre; step:
    the least height of what is no ground, and of the edge around it; near: how far above the ground found its
    points may lie; pit: how far below all around a point is no ground.
    """

    cell: float = 1.0
    window: float = 40.0
    slope: float = 0.6
    step: float = 0.25
    near: float = 0.25
    pit: float = 1.5

    def width(self, metres: float) -> int:
        """Cells of a window of so many metres, an odd number."""
        return max(3, 2 * int(metres / self.cell / 2) + 1)

    @property
    def margin(self) -> int:
        """Cells around a block that its result rests on."""
        return 2 * self.width(self.window) + len(_RING) + 8


class GroundSurface(NamedTuple):
    """A surface of the ground, and which cells are in doubt: kept though they step up on half of their
    outline at least, or left out as decks."""

    surface: Surface
    kept: Mask
    decks: Mask


class _Steps(NamedTuple):
    """Where a surface steps, along rows and along columns; see `kernels.outlines`."""

    along: npt.NDArray[np.int8]
    down: npt.NDArray[np.int8]


def ground_surface(lowest: Surface, filtering: Filtering) -> GroundSurface:
    """The ground, from the lowest points of cells; between ground cells by distance from these."""
    known = np.isfinite(lowest)
    if not known.any():
        nothing = np.zeros(lowest.shape, bool)
        return GroundSurface(np.full_like(lowest, np.nan), nothing, nothing)
    known &= ~_pits(_filled(lowest, known), filtering)
    sources = _sources(known)
    surface = lowest[tuple(sources)]
    small, _ = _judged(surface, sources, filtering, _SMALL, sharp=False)
    kinds, steps = _judged(surface, sources, filtering, filtering.window, sharp=True)
    raised = (small == kernels.outlines.RAISED) | (kinds == kernels.outlines.RAISED)
    standing = _residue(surface, filtering.width(filtering.window)) > _DECK
    decks = _decks(surface, steps, standing & ~raised, filtering)
    doubtful = (kinds == kernels.outlines.DOUBTFUL) & ~raised & ~decks
    return GroundSurface(_between(surface, known & ~raised & ~decks), doubtful & known, decks & known)


def _sources(known: Mask) -> npt.NDArray[np.int32]:
    """Row and column of the nearest known cell of each, (2, rows, columns)."""
    ndimage = scipy("ndimage")
    found = ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    return np.asarray(found, np.int32)


def _filled(values: Surface, known: Mask) -> Surface:
    """Unknown cells with the value of the nearest known one."""
    return np.asarray(values[tuple(_sources(known))])


def _pits(surface: Surface, filtering: Filtering) -> Mask:
    """Cells far below all that lie two cells away, which a false echo makes."""
    around = scipy("ndimage").minimum_filter(surface, footprint=_RING, mode="mirror")
    return np.asarray(surface < around - filtering.pit)


def _residue(surface: Surface, width: int) -> Surface:
    """What an opening by a square of so many cells takes away."""
    opened = scipy("ndimage").grey_opening(surface, size=(width, width), mode="nearest")
    return np.asarray(surface - opened)


def _judged(
    surface: Surface, sources: npt.NDArray[np.int32], filtering: Filtering, window: float, *, sharp: bool
) -> tuple[npt.NDArray[np.uint8], _Steps]:
    """What each cell belongs to among things narrower than a window, and where the surface steps."""
    limits = filtering.step, filtering.slope * filtering.cell, sharp
    steps = _Steps(*kernels.outlines.steps(surface, sources, limits))
    residue = _residue(surface, filtering.width(window))
    cells = np.flatnonzero(residue.ravel() > filtering.step / 2)
    order = cells[np.argsort(-residue.ravel()[cells], kind="stable")]
    return kernels.outlines.raised(residue, order, *steps), steps


def _decks(surface: Surface, steps: _Steps, standing: Mask, filtering: Filtering) -> Mask:
    """Cells of strips that fall away on both sides, and go on at both ends."""
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
    """Cells from which the surface falls on two opposite sides, which are so many cells apart at most."""
    found = np.zeros(surface.shape, bool)
    for down, across in ((0, 1), (1, 0), (1, 1), (1, -1)):
        one = kernels.outlines.to_falls(surface, *steps, (down, across), _FALL)
        other = kernels.outlines.to_falls(surface, *steps, (-down, -across), _FALL)
        found |= (one >= 0) & (other >= 0) & (one + other < most)
    return found


def _ends(labels: npt.NDArray[np.int32], steps: _Steps) -> npt.NDArray[np.int32]:
    """Cells beside strips (rows, columns) that these go on to without a step, with the strip's number."""
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
