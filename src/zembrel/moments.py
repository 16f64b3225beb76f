"""How many values there are, their sum, and the squares of their differences from the mean, which add up.

Squares of the values themselves cancel where these are large and alike: dates, northings, millimetres.
Source: T. F. Chan, G. H. Golub, R. J. LeVeque, "Algorithms for computing the sample variance: analysis and
recommendations", The American Statistician 37 (1983), 242-247.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]


class Moments(NamedTuple):
    """Of one or of many sets of values: counts, which may be fractions, sums, and centred squares."""

    count: Any
    total: Any
    squares: Any

    @classmethod
    def of(cls, values: Array) -> Moments:
        """Of values along the last axis."""
        exact = values.astype(np.float64, copy=False)
        with np.errstate(invalid="ignore", over="ignore"):  # infinite values have no deviation
            count, total = exact.shape[-1], exact.sum(axis=-1)
            mean = np.asarray(total / max(count, 1))
            return cls(count, total, np.square(exact - mean[..., None]).sum(axis=-1))

    def plus(self, other: Moments) -> Moments:
        """Of both together."""
        count = self.count + other.count
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            gap = np.where(
                np.asarray(self.count) * other.count > 0,
                np.divide(other.total, other.count) - np.divide(self.total, self.count), 0.0,
            )  # fmt: skip
            shift = gap * gap * self.count * other.count / np.maximum(count, 1e-300)
        return Moments(count, self.total + other.total, self.squares + other.squares + shift)

    @property
    def mean(self) -> Any:
        """NaN where there is no value."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(np.asarray(self.count) > 0, np.divide(self.total, self.count), np.nan)

    @property
    def deviation(self) -> Any:
        """The standard deviation of all of them; NaN where there is no value."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(
                np.asarray(self.count) > 0,
                np.sqrt(np.divide(np.maximum(self.squares, 0), self.count)),
                np.nan,
            )


NONE = Moments(0, 0.0, 0.0)  # of no value
