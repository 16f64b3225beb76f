"""From the coordinates of single cells to the lattice they stand on."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Affine, Array, Frame

Numbers = npt.NDArray[np.int64]
_APART = 1e-3  # of the usual distance: values closer than that are one, written with unlike rounding
_OFF = 0.02  # steps by which a value may miss its place
_MOST = 20_000_000  # places along an axis
_PLAUSIBLE, _EMPTIEST = 1_000_000_000, 1_000  # places that any lattice may have, and for each cell there is


def lattice_of(path: Path, xs: Array, ys: Array, crs: CRS | None, count: int) -> Frame:
    """The frame whose cell middles hold every x and y, (n,) and (m,), sorted and different.

    count: cells that there are. Raises InputError, naming the axis, if they are no lattice, and for a lattice
    that is all but empty: one damaged coordinate makes that.
    """
    x, y = _merged(xs), _merged(ys)
    across = _step(path, "x", x) if x.size > 1 else None
    along = _step(path, "y", y) if y.size > 1 else None
    across, along = across or along, along or across
    if across is None or along is None:
        raise InputError(
            f"{path} holds a single place", "the size of its cell is unknown", "give a grid of them"
        )
    columns, rows = (round((v[-1] - v[0]) / step) + 1 for v, step in ((x, across), (y, along)))
    if columns * rows > max(_PLAUSIBLE, _EMPTIEST * count):
        why = f"{count:,} cells on a lattice of {columns:,} x {rows:,} places: a coordinate may be damaged"
        raise InputError(f"{path} holds places that are no grid", why, "correct it, or grid them as points")
    corner = _edge(float(x[0]), across), -_edge(-float(y[-1]), along)
    return Frame(crs, Affine(*corner, across, -along), columns, rows)


def placed(frame: Frame, x: Array, y: Array) -> tuple[Numbers, Numbers]:
    """Row and column, as whole numbers, of coordinates that `lattice_of` saw."""
    columns, rows = frame.corners.position(x, y)
    return np.floor(rows).astype(np.int64), np.floor(columns).astype(np.int64)


def _merged(values: Array) -> Array:
    if values.size < 3:
        return values
    steps = np.diff(values)
    usual = float(np.median(steps))
    kept: Array = values[np.concatenate([[True], steps > _APART * usual])]
    return kept


def _step(path: Path, axis: str, values: Array) -> float:
    """The distance of neighbours, as short a number as puts every value in its place."""
    smallest = float(np.diff(values).min())
    length = float(values[-1] - values[0])
    count = round(length / smallest)
    if not np.isfinite(length) or count > _MOST:
        raise _no_lattice(path, axis, smallest)
    raw = length / count
    index = np.rint((values - values[0]) / raw)
    if np.abs((values - values[0]) / raw - index).max() > _OFF:
        raise _no_lattice(path, axis, smallest)
    close = 1e-9 * raw + 2 * float(np.spacing(np.abs(values[[0, -1]]).max()))
    for digits in range(1, 17):
        step = float(f"{raw:.{digits}g}")
        if np.abs(values[0] + index * step - values).max() <= close:
            return step
    return raw


def _edge(middle: float, step: float) -> float:
    """The edge half a step before `middle`, as short a number as gives that middle back."""
    raw = middle - step / 2
    for digits in range(1, 17):
        edge = float(f"{raw:.{digits}g}")
        if edge + 0.5 * step == middle:
            return edge
    return raw


def _no_lattice(path: Path, axis: str, smallest: float) -> InputError:
    return InputError(
        f"{path} holds places that are no grid",
        f"along {axis} they lie as close as {smallest:g}, and not all on one lattice",
        "check its columns; scattered points are gridded, not converted",
    )
