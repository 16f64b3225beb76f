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

    def normal_radius(self, lat: Array | float) -> Array:
        """Radius of curvature across the meridian at `lat` radians, metres."""
        radius: Array = self.semi_major / np.sqrt(1 - (self.eccentricity * np.sin(lat)) ** 2)
        return radius

    def meridian_radius(self, lat: Array | float) -> Array:
        """Radius of curvature along the meridian, metres: also metres per radian there."""
        e2 = self.eccentricity**2
        radius: Array = self.semi_major * (1 - e2) / (1 - e2 * np.sin(lat) ** 2) ** 1.5
        return radius

    def parallel_radius(self, lat: Array | float) -> Array:
        """Radius of the parallel, metres: also metres per radian along it."""
        return self.normal_radius(lat) * np.cos(lat)


WGS_84 = Ellipsoid("WGS 84", 6378137.0, 298.257223563, 7030)
GRS_1980 = Ellipsoid("GRS 1980", 6378137.0, 298.257222101, 7019)
