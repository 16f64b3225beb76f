"""Inverse projections by Newton's method, for those without a closed inverse."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from zembrel.geodesy.ellipsoid import Array

Forward = Callable[[Array, Array], tuple[Array, Array]]
STEPS = 12
_DIFFERENCE = 1e-6  # radians
_DONE, _CLOSE = 1e-8, 1e-5  # metres: nearer than that no step is taken; farther the result does not count


def inverted(forward: Forward, x: Array, y: Array, lon: Array, lat: Array) -> tuple[Array, Array]:
    """The longitude and latitude that `forward` takes to x, y, starting from a guess; NaN if none is found.

    Steps are kept below half a radian and latitudes on the globe.
    """
    shape, (x, y) = np.shape(x), (np.ravel(x), np.ravel(y))
    lon, lat = np.array(np.ravel(lon), float), np.array(np.ravel(lat), float)
    open_ = np.arange(x.size)  # points that are not there yet
    with np.errstate(all="ignore"):
        for _ in range(STEPS):
            step_lon, step_lat, miss = _step(forward, x[open_], y[open_], lon[open_], lat[open_])
            far = ~(miss < _DONE)
            open_ = open_[far]
            if not open_.size:
                break
            lon[open_] += np.clip(step_lon[far], -0.5, 0.5)
            lat[open_] = np.clip(lat[open_] + np.clip(step_lat[far], -0.5, 0.5), -np.pi / 2, np.pi / 2)
        at_x, at_y = forward(lon[open_], lat[open_])
        lost = open_[~(np.hypot(x[open_] - at_x, y[open_] - at_y) < _CLOSE)]
    lon[lost] = lat[lost] = np.nan
    return lon.reshape(shape), lat.reshape(shape)


def _step(forward: Forward, x: Array, y: Array, lon: Array, lat: Array) -> tuple[Array, Array, Array]:
    """Newton's step in longitude and latitude, and the distance still to go in metres."""
    at_x, at_y = forward(lon, lat)
    miss_x, miss_y = x - at_x, y - at_y
    # towards the equator, so that the neighbour never lies beyond a pole
    up = np.where(lat > 0, -_DIFFERENCE, _DIFFERENCE)
    east_x, east_y = forward(lon + _DIFFERENCE, lat)
    north_x, north_y = forward(lon, lat + up)
    xx, yx = (east_x - at_x) / _DIFFERENCE, (east_y - at_y) / _DIFFERENCE
    xy, yy = (north_x - at_x) / up, (north_y - at_y) / up
    size = xx * yy - xy * yx
    return (miss_x * yy - miss_y * xy) / size, (miss_y * xx - miss_x * yx) / size, np.hypot(miss_x, miss_y)
