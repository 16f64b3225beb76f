"""Which part of a frame has a sound place in another CRS."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, label, same
from zembrel.geodesy.registry import by_code, entry
from zembrel.grid.extent import Bounds, box_bounds
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane

STRETCH = 2.0  # a map that makes lengths longer or shorter than this is no longer sound
_PROBES = 33  # along each side
_STEP = 1e-5  # radians


@lru_cache(maxsize=4096)
def sound_part(frame: Frame, target: CRS) -> Frame:
    """`frame`, or the part in the area of use of `target` if elsewhere the map is stretched beyond STRETCH.

    Raises InputError if no part of it lies there.
    """
    crs = frame.crs
    known = entry(target.code) if isinstance(target, ProjectedCRS) and target.code else None
    if known is None or crs is None or isinstance(crs, UnresolvedCRS) or same(crs, target):
        return frame
    assert isinstance(target, ProjectedCRS)
    if not np.isfinite(known.bounds).all() or _stretch(frame, target) <= STRETCH:
        return frame
    limits, bounds = frame.pane, box_bounds(known.bounds, by_code(4326), crs)
    if crs.circuit is not None:
        limits, bounds = _turned(frame, crs.circuit.turn, bounds)
    part = frame.pane_of(*bounds).meet(limits)
    if part is None:
        raise InputError(
            f"the extent has no place in {label(target)}",
            f"none of it lies in its area of use: {known.area}",
            "choose a CRS for that part of the Earth",
        )
    return frame.crop(part)


def _turned(frame: Frame, turn: float, bounds: Bounds) -> tuple[Pane, Bounds]:
    """What of a frame may be kept, and `bounds` moved there by whole turns.

    A frame around the Earth reaches beyond its seam.
    """
    (west, south, east, north), (left, _, right, _) = bounds, frame.bounds
    if east - west > 0.999 * turn:
        return frame.pane, (left, south, right, north)
    by = turn * round((left + right - west - east) / 2 / turn)
    whole = frame.pane
    if right - left > 0.999 * turn:
        whole = Pane(0, -frame.columns, frame.rows, 2 * frame.columns)
    return whole, (west + by, south, east + by, north)


def _stretch(frame: Frame, target: ProjectedCRS) -> float:
    """By what factor `target` makes lengths in the frame longer or shorter at worst; infinite where some
    point has no place."""
    assert isinstance(frame.crs, GeographicCRS | ProjectedCRS)
    t = np.linspace(0, 1, _PROBES)
    cols, rows = (part.ravel() for part in np.meshgrid(t * frame.columns, t * frame.rows))
    lon, lat = frame.crs.to_geographic(*frame.corners.at(cols, rows))
    lon, lat = lon[np.isfinite(lat)], lat[np.isfinite(lat)]
    towards_equator = np.where(lat > 0, -_STEP, _STEP)
    x, y = target.from_geographic(lon, lat)
    shape = target.datum.ellipsoid
    parallel, meridian = shape.parallel_radius(lat), shape.meridian_radius(lat)
    with np.errstate(all="ignore"):
        up_x, up_y = target.from_geographic(lon, lat + towards_equator)
        east_x, east_y = target.from_geographic(lon + _STEP, lat)
        off_pole = parallel > 1e-3 * meridian
        up = np.hypot(up_x - x, up_y - y) / meridian
        across = (np.hypot(east_x - x, east_y - y) / parallel)[off_pole]
        scales = np.concatenate([up, across]) * target.unit.factor / _STEP
        worst = np.maximum(scales, 1 / scales)
    return float(worst.max(initial=1.0)) if np.isfinite(worst).all() else math.inf
