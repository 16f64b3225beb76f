"""Frames: a CRS, an affine lattice and its size; the arithmetic is exact where it can be.

A frame is anchored where its values are: at the outer corner of the first cell (registration
`cell`) or at the first lattice node (`node`). The corner of a node frame lies half a cell out; it
is computed, never stored, so nodes on whole arc-seconds stay there.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.geodesy import crs as crs_model
from zembrel.geodesy.crs import CRS
from zembrel.grid.pane import Pane

Array = npt.NDArray[np.float64]
Number = TypeVar("Number", float, Array)
ALIGNED = 1e-4  # cells by which two lattices may miss each other and still count as one
ON_EDGE = 1e-6  # cells by which rounding may move a point from the edge it lies on


@dataclass(frozen=True, slots=True)
class Affine:
    """x = x0 + col * x_col + row * x_row, and y likewise: where a position of the lattice lies."""

    x0: float
    y0: float
    x_col: float
    y_row: float
    x_row: float = 0.0
    y_col: float = 0.0

    def __post_init__(self) -> None:
        numbers = (self.x0, self.y0, self.x_col, self.y_row, self.x_row, self.y_col)
        if not all(map(math.isfinite, numbers)) or self.determinant == 0:
            raise InputError(
                f"the transform {numbers} does not span a plane",
                "its cells would have no area or no place",
                "correct the georeferencing with label, or leave it out",
            )

    @property
    def determinant(self) -> float:
        return self.x_col * self.y_row - self.x_row * self.y_col

    def at(self, col: Number, row: Number) -> tuple[Number, Number]:
        """x and y of lattice position (col, row)."""
        x = self.x0 + (col * self.x_col + row * self.x_row)
        y = self.y0 + (col * self.y_col + row * self.y_row)
        return x, y

    def position(self, x: Number, y: Number) -> tuple[Number, Number]:
        """Column and row of (x, y), the inverse of `at`."""
        dx, dy, det = x - self.x0, y - self.y0, self.determinant
        if not self.x_row and not self.y_col:
            return dx / self.x_col, dy / self.y_row
        return (dx * self.y_row - dy * self.x_row) / det, (dy * self.x_col - dx * self.y_col) / det

    def shifted(self, cols: Fraction | int, rows: Fraction | int) -> Affine:
        """The same lattice counted from another position; each coefficient is rounded once."""
        x = Fraction(self.x0) + cols * Fraction(self.x_col) + rows * Fraction(self.x_row)
        y = Fraction(self.y0) + cols * Fraction(self.y_col) + rows * Fraction(self.y_row)
        return replace(self, x0=float(x), y0=float(y))


@dataclass(frozen=True)
class Frame:
    """Where and how fine: every raster has one, every result lands on one."""

    crs: CRS | None
    affine: Affine  # of the values' anchor: see the module's text
    columns: int
    rows: int
    registration: str = "cell"

    def __post_init__(self) -> None:
        if self.registration not in ("cell", "node"):
            raise InputError(
                f"registration {self.registration!r}",
                "a value stands for a cell or on a node",
                "say cell or node",
            )
        if self.columns < 1 or self.rows < 1:
            raise InputError(
                f"a frame of {self.columns} x {self.rows} cells is empty",
                "there is nowhere to put a value",
                "check the area and the cell size",
            )

    @property
    def pane(self) -> Pane:
        """All cells."""
        return Pane(0, 0, self.rows, self.columns)

    @property
    def corners(self) -> Affine:
        """The affine of cell corners: position (0, 0) is the outer corner of the first cell."""
        if self.registration == "cell":
            return self.affine
        return self.affine.shifted(Fraction(-1, 2), Fraction(-1, 2))

    @property
    def north_up(self) -> bool:
        a = self.affine
        return a.x_row == 0 == a.y_col and a.x_col > 0 > a.y_row

    @property
    def cell(self) -> tuple[float, float]:
        """Cell size along a row and along a column, in CRS units, always positive."""
        a = self.affine
        return math.hypot(a.x_col, a.y_col), math.hypot(a.x_row, a.y_row)

    @property
    def bounds(self) -> tuple[float, float, float, float]:
        """West, south, east, north of the outer cell edges, in CRS units."""
        return self.bounds_of(self.pane)

    def bounds_of(self, pane: Pane) -> tuple[float, float, float, float]:
        """West, south, east, north of the outer edges of `pane`."""
        a = self.corners
        corners = [a.shifted(col, row) for col in (pane.left, pane.right) for row in (pane.top, pane.bottom)]
        xs, ys = [c.x0 for c in corners], [c.y0 for c in corners]
        return min(xs), min(ys), max(xs), max(ys)

    def crop(self, pane: Pane) -> Frame:
        """The frame of `pane`, which may reach beyond this one, on the same lattice."""
        affine = self.affine.shifted(pane.left, pane.top)
        return Frame(self.crs, affine, pane.columns, pane.rows, self.registration)

    def centres(self, cols: Array, rows: Array) -> tuple[Array, Array]:
        """x and y of the middles of cells, given by (possibly fractional) column and row numbers."""
        half = 0.0 if self.registration == "node" else 0.5
        x, y = self.affine.at(cols + half, rows + half)
        return np.asarray(x), np.asarray(y)

    def pane_of(self, west: float, south: float, east: float, north: float) -> Pane:
        """The cells that a rectangle in CRS units touches; an edge within 1/10,000 cell counts as on it.

        Raises InputError if the rectangle has no area.
        """
        xs, ys = np.array([west, east, east, west]), np.array([south, south, north, north])
        cols, rows = self.corners.position(xs, ys)
        low_col, high_col = float(np.min(cols)), float(np.max(cols))
        low_row, high_row = float(np.min(rows)), float(np.max(rows))
        return Pane(
            math.floor(low_row + ALIGNED),
            math.floor(low_col + ALIGNED),
            math.ceil(high_row - ALIGNED),
            math.ceil(high_col - ALIGNED),
        )

    def offset_to(self, other: Frame) -> tuple[int, int] | None:
        """Row and column of `other`'s first cell here if both lie on one lattice, else None.

        Registration counts: a node frame and a cell frame are on one lattice if their cells are.
        """
        if not crs_model.same(self.crs, other.crs):
            return None
        mine, theirs = self.corners, other.corners
        drift_rows = max(abs(mine.x_col - theirs.x_col), abs(mine.x_row - theirs.x_row)) * max(
            self.longest, other.longest
        )
        drift_cols = max(abs(mine.y_col - theirs.y_col), abs(mine.y_row - theirs.y_row)) * max(
            self.longest, other.longest
        )
        if max(drift_rows, drift_cols) > ALIGNED * min(self.cell):
            return None
        col, row = mine.position(theirs.x0, theirs.y0)
        if abs(col - round(col)) > ALIGNED or abs(row - round(row)) > ALIGNED:
            return None
        return round(row), round(col)

    @property
    def longest(self) -> int:
        """The longer side, in cells."""
        return max(self.columns, self.rows)

    @property
    def size(self) -> int:
        """Number of cells."""
        return self.columns * self.rows


def snapped(
    crs: CRS | None,
    bounds: tuple[float, float, float, float],
    cell: tuple[float, float],
    *,
    origin: tuple[float, float] = (0.0, 0.0),
    registration: str = "cell",
) -> Frame:
    """The smallest north-up frame on the lattice through `origin` whose cells cover `bounds`.

    bounds: west, south, east, north in CRS units; cell: size along x and y, positive. For node
    registration the nodes lie on the lattice, and the outermost ones on or outside the bounds.
    """
    west, south, east, north = bounds
    across, along = cell
    left = math.floor((west - origin[0]) / across + ALIGNED)
    right = math.ceil((east - origin[0]) / across - ALIGNED)
    bottom = math.floor((south - origin[1]) / along + ALIGNED)
    top = math.ceil((north - origin[1]) / along - ALIGNED)
    extra = 1 if registration == "node" else 0
    lattice = Affine(origin[0], origin[1], across, -along)
    columns, rows = max(right - left, 1 - extra) + extra, max(top - bottom, 1 - extra) + extra
    return Frame(crs, lattice.shifted(left, -top), columns, rows, registration)


def holding(crs: CRS | None, bounds: tuple[float, float, float, float], cell: tuple[float, float]) -> Frame:
    """The smallest frame on the lattice in whose cells all points within `bounds` lie.

    A cell has its west and north edge, so that points on the last edges need one more.
    """
    frame = snapped(crs, bounds, cell)
    left, top = frame.corners.position(bounds[0], bounds[3])
    column, row = frame.corners.position(bounds[2], bounds[1])
    return frame.crop(
        Pane(
            -int(top < -ON_EDGE),
            -int(left < -ON_EDGE),
            frame.rows + int(row > frame.rows - ON_EDGE),
            frame.columns + int(column > frame.columns - ON_EDGE),
        )
    )
