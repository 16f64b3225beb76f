"""Breaks between classes of values: equal intervals, equal counts, or where values differ least within."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
WAYS = ("equal", "quantile", "natural")
_MOST_VALUES = 2_000  # that natural breaks are sought among


def breaks(values: Array, way: str, count: int) -> Array:
    """The ends of `count` classes of numbers, lowest and highest value included."""
    ways: Mapping[str, Callable[[], Array]] = {
        "equal": lambda: np.linspace(values.min(), values.max(), count + 1),
        "quantile": lambda: np.asarray(np.quantile(values, np.linspace(0, 1, count + 1))),
        "natural": lambda: _natural(np.sort(values), count),
    }
    return ways[way]()


def _natural(values: Array, count: int) -> Array:
    """Classes whose values differ least from their means, by exhaustive search along the order.

    Source: W. D. Fisher, "On grouping for maximum homogeneity", Journal of the American Statistical
    Association 53 (1958). Of many values evenly many ranks are looked at.
    """
    if values.size > _MOST_VALUES:
        values = values[np.linspace(0, values.size - 1, _MOST_VALUES).astype(int)]
    values, weights = np.unique(values, return_counts=True)
    size, count = values.size, min(count, values.size)
    total = np.concatenate([[0], np.cumsum(weights)])
    near = values - np.average(values, weights=weights)  # so that squares do not cancel
    sums = np.concatenate([[0], np.cumsum(weights * near)])
    squares = np.concatenate([[0], np.cumsum(weights * near**2)])
    best = np.full((count + 1, size + 1), np.inf)
    cut = np.zeros((count + 1, size + 1), np.int64)
    best[0, 0] = 0.0
    for k in range(1, count + 1):
        for end in range(k, size + 1):
            start = np.arange(k - 1, end)
            n, s = total[end] - total[start], sums[end] - sums[start]
            spread = squares[end] - squares[start] - s * s / n
            cost = best[k - 1, start] + spread
            at = int(np.argmin(cost))
            best[k, end], cut[k, end] = cost[at], start[at]
    ends, at = [values[-1]], size
    for k in range(count, 1, -1):
        at = int(cut[k, at])
        ends.append(values[at - 1])
    return np.array([values[0], *reversed(ends)])
