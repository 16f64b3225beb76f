"""Surfaces between points: triangles, and means weighted by distance.

A void is bridged by a triangle only if the circle through its corners, in which no point lies, has a radius
of the
reach or less. Such a circle lies within twice the reach of any place inside the triangle: so a margin of
that is all
that a block needs to hold the same triangles as the whole.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.points import kernels
from zembrel.points.gridding.spool import Spooled
from zembrel.scipypart import scipy

Values = npt.NDArray[np.float64]
_JITTER = 2e-5  # cells by which places are moved so that no four lie on one circle
_NEAREST = 12  # points that a weighted mean is made of
_SAME = 1e-4  # cells: points closer than that are one


def triangulated(
    points: Spooled, values: Values, pane: Pane, reach: float, *, highest: bool = False
) -> Values:
    """Heights of the triangles between points at the middles of the cells of a pane; NaN where there is none.

    points: of the pane and a margin of twice `reach`, which is in cells; of several in one place the lowest
    counts,
    or the highest.
    """
    out = np.full((pane.rows, pane.columns), np.nan)
    places, z = _distinct(points, values, highest=highest)
    if len(places) < 3:
        return out
    places = places + _jitter(places)
    kernels.triangles.paint_triangles(
        places, z, kernels.delaunay.delaunay(places), reach, pane.top, pane.left, out
    )
    return out


def weighted(points: Spooled, values: Values, pane: Pane, reach: float) -> Values:
    """Means of the nearest points within `reach` cells of the middle of each cell, weighted by distance
    squared.

    After Shepard, A two-dimensional interpolation function for irregularly-spaced data (ACM, 1968).
    """
    out = np.full((pane.rows, pane.columns), np.nan)
    if not len(points):
        return out
    places, values = _means(points, values)
    places = places + _jitter(places)  # so that of points equally far away every block takes the same
    rows, columns = np.mgrid[pane.top : pane.bottom, pane.left : pane.right]
    middles = np.column_stack((columns.ravel() + 0.5, rows.ravel() + 0.5))
    away, which = scipy("spatial").cKDTree(places).query(middles, k=_NEAREST, distance_upper_bound=reach)
    known = np.isfinite(away)
    weight = np.where(known, 1 / np.maximum(away, 1e-6) ** 2, 0.0)
    held = np.where(known, values[np.minimum(which, len(values) - 1)], 0.0)
    with np.errstate(invalid="ignore"):
        return np.asarray(((weight * held).sum(axis=1) / weight.sum(axis=1)).reshape(out.shape))


def without_spikes(points: Spooled, size: float, height: float) -> npt.NDArray[np.bool_]:
    """Which points stand out no more than `height` from the median of the points around, of 3 x 3 cells of
    `size`.

    Cells are counted from the corner of the frame, so that every block judges alike. size: in cells of the
    frame.
    """
    columns = np.floor(points["column"] / size).astype(np.int64)
    rows = np.floor(points["row"] / size).astype(np.int64)
    if not len(points):
        return np.ones(0, bool)
    columns, rows = columns - columns.min() + 1, rows - rows.min() + 1
    keys = rows * (int(columns.max()) + 2) + columns
    order = np.lexsort((points["z"], keys))
    found, starts, counts = np.unique(keys[order], return_index=True, return_counts=True)
    held = points["z"][order]
    medians = np.full((int(rows.max()) + 2, int(columns.max()) + 2), np.nan)
    medians.ravel()[found] = (held[starts + (counts - 1) // 2] + held[starts + counts // 2]) / 2
    stack = [np.roll(np.roll(medians, a, 0), b, 1) for a in (-1, 0, 1) for b in (-1, 0, 1)]
    around = np.sort(np.stack(stack), axis=0)  # unknown ones last
    known = np.isfinite(around).sum(axis=0)
    low, high = np.maximum((known - 1) // 2, 0), np.minimum(known // 2, len(stack) - 1)
    one, other = (np.take_along_axis(around, n[np.newaxis], axis=0)[0] for n in (low, high))
    return np.asarray(np.abs(points["z"] - ((one + other) / 2).ravel()[keys]) <= height)


def _means(points: Spooled, values: Values) -> tuple[npt.NDArray[np.float64], Values]:
    """Places without repetition, and the mean value of each."""
    columns, rows = points["column"], points["row"]
    order = np.lexsort((values, rows, columns))
    columns, rows = columns[order], rows[order]
    new = np.ones(len(order), bool)
    new[1:] = (np.diff(columns) != 0) | (np.diff(rows) != 0)
    starts = np.flatnonzero(new)
    totals = np.add.reduceat(values[order], starts)
    return np.column_stack((columns[new], rows[new])), totals / np.diff([*starts, len(order)])


def _distinct(points: Spooled, values: Values, *, highest: bool) -> tuple[npt.NDArray[np.float64], Values]:
    """Places without repetition, and the lowest or highest value of each."""
    columns, rows = points["column"], points["row"]
    order = np.lexsort((-values if highest else values, np.round(rows / _SAME), np.round(columns / _SAME)))
    columns, rows, z = columns[order], rows[order], values[order]
    new = np.ones(len(z), bool)
    new[1:] = (np.abs(np.diff(columns)) > _SAME) | (np.abs(np.diff(rows)) > _SAME)
    return np.column_stack((columns[new], rows[new])), z[new]


def _jitter(places: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Small moves that belong to the places: the same in every block."""
    mixed = np.sin(places @ np.array([[12.9898, 39.346], [78.233, 11.135]])) * 43758.5453
    return np.asarray(_JITTER * (mixed - np.floor(mixed) - 0.5))
