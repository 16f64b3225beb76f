"""Ground under points without classes: progressive morphological filter, by metres.

After Zhang et al., A progressive morphological filter for removing nonground measurements from airborne
LIDAR data,
IEEE Transactions on Geoscience and Remote Sensing 41(4), 2003: the lowest points of cells are opened with
ever wider
windows; what stands above an opening by more than the ground may rise across the window is no ground.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.scipypart import scipy

Surface = npt.NDArray[np.float32]  # (rows, columns), NaN where nothing is known
_GROWTH = 2.0  # of the windows
_MOST_STEP = 4.0  # metres
_PIT = 5  # cells along the window in which pits are found


@dataclass(frozen=True)
class Filtering:
    """Sizes in metres. window: the widest thing that is no ground; slope: rise of the ground per metre;
    step: what counts as ground above the opening at first; near: how far above the ground found its points
    may lie; pit: how far below all around a point is no ground.
    """

    cell: float = 1.0
    window: float = 40.0
    slope: float = 0.6
    step: float = 0.4
    near: float = 0.25
    pit: float = 1.5

    @property
    def windows(self) -> list[int]:
        """Windows in cells, odd, growing."""
        widths, width = [], 3.0
        while width * self.cell < self.window:
            widths.append(2 * int(width / 2) + 1)
            width *= _GROWTH
        return [*widths, 2 * int(self.window / self.cell / 2) + 1]

    @property
    def margin(self) -> int:
        """Cells around a block that its result rests on."""
        return 2 * sum(self.windows) + 2 * _PIT + 8


def ground_surface(lowest: Surface, filtering: Filtering) -> Surface:
    """The ground, from the lowest points of cells; interpolated between ground cells, carried on from
    rims."""
    ndimage = scipy("ndimage")

    known = np.isfinite(lowest)
    if not known.any():
        return np.full_like(lowest, np.nan)
    surface = _without_pits(_filled(lowest, known), filtering)
    ground = known.copy()
    before = 1
    opened = surface
    for width in filtering.windows:
        opened = ndimage.grey_opening(opened, size=(width, width), mode="nearest")
        rise = min(filtering.step + filtering.slope * (width - before) * filtering.cell, _MOST_STEP)
        ground &= surface - opened <= rise
        before = width
    return _between(surface, ground)


def _filled(values: Surface, known: npt.NDArray[np.bool_]) -> Surface:
    """Unknown cells with the value of the nearest known one."""
    ndimage = scipy("ndimage")

    nearest = ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    return np.asarray(values[tuple(nearest)])


def _without_pits(surface: Surface, filtering: Filtering) -> Surface:
    """Cells far below the median around them, which a false echo makes, raised to it."""
    ndimage = scipy("ndimage")

    around = ndimage.median_filter(surface, size=_PIT, mode="nearest")
    slack = filtering.pit + filtering.slope * filtering.cell * _PIT / 2
    return np.where(surface < around - slack, around, surface).astype(np.float32)


def _between(surface: Surface, ground: npt.NDArray[np.bool_]) -> Surface:
    """Ground cells as they are; the others by distance from the ground in eight directions."""
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
    surface: Surface, ground: npt.NDArray[np.bool_], down: int, across: int
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
