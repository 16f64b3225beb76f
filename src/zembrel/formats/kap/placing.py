"""Where a chart lies: reference points to a frame, and to polynomials both ways."""

from __future__ import annotations

from math import comb
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.formats.kap.header import ChartHeader, broken
from zembrel.geodesy.crs import CRS, GeographicCRS
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code, fitting_at
from zembrel.grid.extent import turn_of
from zembrel.grid.frame import Affine, Frame

Array = npt.NDArray[np.float64]
MERCATOR = 3395
_WGS_84 = 4326
_LEAST = 3  # points
_MOST_OFF = 2.0  # cells rms by which the points of a chart may be off
_STRAIGHT = 1e-4  # cells that a whole side may lean and still count as upright


class ChartFrame(NamedTuple):
    """The frame of a chart, and what was found odd about it."""

    frame: Frame
    remarks: tuple[str, ...]


class Polynomial(NamedTuple):
    """Coefficients of 1, u, v, u^2, u v, v^2 ... by order, and the largest miss where it was fitted."""

    order: int
    coefficients: tuple[float, ...]
    most_off: float

    def at(self, u: Array, v: Array) -> Array:
        terms = [c * u**i * v**j for c, (i, j) in zip(self.coefficients, _powers(self.order), strict=True)]
        return np.asarray(sum(terms))


def placed(path: Path, head: ChartHeader) -> ChartFrame:
    """The frame that the reference points say. Raises InputError for points that say none."""
    points = np.array(head.references, np.float64).reshape(-1, 4)
    if len(points) < _LEAST or not np.isfinite(points).all() or np.abs(points[:, 2]).max() > 90:
        broken(path, f"{len(points)} reference points do not say where it is")
    north, east = head.shift
    lat, lon = points[:, 2] + north / 3600, points[:, 3] + east / 3600
    lon = np.unwrap(lon, period=360)
    choices = [by_code(MERCATOR)]
    if head.projection != "MERCATOR":
        choices += [fitting_at(float(lon.mean()), float(lat.mean())), by_code(_WGS_84)]
    fits = [
        (*_fitted(crs, points[:, 0] + 0.5, points[:, 1] + 0.5, lon, lat, head.size), crs) for crs in choices
    ]
    affine, off, crs = min(fits, key=lambda fit: fit[1])
    if affine is None or not off <= _MOST_OFF:
        broken(path, f"its reference points are off by {off:.3g} cells in {head.projection.lower()}")
    said = (f"reference points off by {off:.2g} cells rms",) if off > 0.05 else ()
    return ChartFrame(Frame(crs, affine, *head.size), said)


def _fitted(
    crs: CRS, u: Array, v: Array, lon: Array, lat: Array, size: tuple[int, int]
) -> tuple[Affine | None, float]:
    """The affine of cells that suits points best, and how many cells these are off (rms)."""
    x, y = (lon, lat) if isinstance(crs, GeographicCRS) else operation(by_code(_WGS_84), crs)(lon, lat)
    x = np.unwrap(x, period=turn) if (turn := turn_of(crs)) else x  # across the antimeridian it goes on
    terms = np.column_stack([np.ones_like(u), u, v])
    if np.linalg.matrix_rank(terms) < _LEAST or not (np.isfinite(x).all() and np.isfinite(y).all()):
        return None, np.inf
    (x0, x_col, x_row), (y0, y_col, y_row) = (np.linalg.lstsq(terms, side)[0].tolist() for side in (x, y))
    if max(abs(x_row) * size[1], abs(y_col) * size[0]) < _STRAIGHT * min(abs(x_col), abs(y_row)):
        x_row = y_col = 0.0
    affine = Affine(x0, y0, x_col, y_row, x_row, y_col)
    here_u, here_v = affine.position(x, y)
    return affine, float(np.sqrt(((here_u - u) ** 2 + (here_v - v) ** 2).mean()))


def polynomial(u: Array, v: Array, values: Array, enough: float) -> Polynomial:
    """The lowest order, 1 to 3, at which a polynomial misses `values` by `enough` at most, else the best."""
    best: Polynomial | None = None
    for order in (1, 2, 3):
        made = _fit(u, v, values, order)
        if best is None or made.most_off < best.most_off:
            best = made
        if best.most_off <= enough:
            break
    assert best is not None
    return best


def _fit(u: Array, v: Array, values: Array, order: int) -> Polynomial:
    """Fitted about the middle, where it is well conditioned, then written out in u and v themselves."""
    middle, reach = (u.mean(), v.mean()), (np.ptp(u) / 2 or 1.0, np.ptp(v) / 2 or 1.0)
    powers = _powers(order)
    a, b = (u - middle[0]) / reach[0], (v - middle[1]) / reach[1]
    near = np.linalg.lstsq(np.column_stack([a**i * b**j for i, j in powers]), values)[0]
    held = dict.fromkeys(powers, 0.0)
    for c, (i, j) in zip(near.tolist(), powers, strict=True):
        for p in range(i + 1):
            for q in range(j + 1):
                part = comb(i, p) * (-middle[0]) ** (i - p) * comb(j, q) * (-middle[1]) ** (j - q)
                held[p, q] += c * part / (reach[0] ** i * reach[1] ** j)
    told = tuple(float(f"{held[power]:.15g}") for power in powers)
    made = Polynomial(order, told, 0.0)
    return made._replace(most_off=float(np.abs(made.at(u, v) - values).max()))


def _powers(order: int) -> list[tuple[int, int]]:
    return [(total - j, j) for total in range(order + 1) for j in range(total + 1)]
