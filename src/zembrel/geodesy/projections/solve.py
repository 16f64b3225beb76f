"""Inverse projections by Newton's method, for those without a closed inverse."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from zembrel.geodesy.ellipsoid import Array

Forward = Callable[[Array, Array], tuple[Array, Array]]
STEPS = 12
_DIFFERENCE = 1e-6  # radians
_CLOSE = 1e-5  # metres, for the result to count


def inverted(forward: Forward, x: Array, y: Array, lon: Array, lat: Array) -> tuple[Array, Array]:
    """The longitude and latitude that `forward` takes to x, y, starting from a guess; NaN if none is found.

    Steps are kept below half a radian and latitudes on the globe.
    """
    lon, lat = np.array(lon, float), np.array(lat, float)
    with np.errstate(all="ignore"):
        for _ in range(STEPS):
            at_x, at_y = forward(lon, lat)
            miss_x, miss_y = x - at_x, y - at_y
            # towards the equator, so that the neighbour never lies beyond a pole
            up = np.where(lat > 0, -_DIFFERENCE, _DIFFERENCE)
            east_x, east_y = forward(lon + _DIFFERENCE, lat)
            north_x, north_y = forward(lon, lat + up)
            xx, yx = (east_x - at_x) / _DIFFERENCE, (east_y - at_y) / _DIFFERENCE
            xy, yy = (north_x - at_x) / up, (north_y - at_y) / up
            size = xx * yy - xy * yx
            step_lon = (miss_x * yy - miss_y * xy) / size
            step_lat = (miss_y * xx - miss_x * yx) / size
            lon = lon + np.clip(step_lon, -0.5, 0.5)
            lat = np.clip(lat + np.clip(step_lat, -0.5, 0.5), -np.pi / 2, np.pi / 2)
        at_x, at_y = forward(lon, lat)
        found = np.hypot(x - at_x, y - at_y) < _CLOSE
    return np.where(found, lon, np.nan), np.where(found, lat, np.nan)
