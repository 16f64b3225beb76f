"""Ellipsoids of revolution and the latitudes measured on them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Ellipsoid:
    """An ellipsoid: semi-major axis in metres and inverse flattening (0 for a sphere)."""

    name: str
    semi_major: float
    inverse_flattening: float
    code: int | None = None

    @cached_property
    def flattening(self) -> float:
        return 1 / self.inverse_flattening if self.inverse_flattening else 0.0

    @cached_property
    def semi_minor(self) -> float:
        return self.semi_major * (1 - self.flattening)

    @cached_property
    def eccentricity(self) -> float:
        return math.sqrt(self.flattening * (2 - self.flattening))

    @cached_property
    def third_flattening(self) -> float:
        """(a - b) / (a + b), the n of the series."""
        return self.flattening / (2 - self.flattening)

    def radii(self, lat: float) -> tuple[float, float]:
        """Metres per radian along the parallel and along the meridian at `lat` radians."""
        w = 1 - (self.eccentricity * math.sin(lat)) ** 2
        prime_vertical = self.semi_major / math.sqrt(w)
        meridional = self.semi_major * (1 - self.eccentricity**2) / w**1.5
        return prime_vertical * math.cos(lat), meridional


WGS_84 = Ellipsoid("WGS 84", 6378137.0, 298.257223563, 7030)
GRS_1980 = Ellipsoid("GRS 1980", 6378137.0, 298.257222101, 7019)
