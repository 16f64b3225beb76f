"""Heights of a surface above the ellipsoid, looked up in a raster."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, label
from zembrel.grid.frame import Array
from zembrel.grid.pane import Pane
from zembrel.measure import LENGTHS
from zembrel.raster.model import Raster
from zembrel.raster.views.around import around


@dataclass(frozen=True)
class GridSeparation:
    """The first band of `grid`, interpolated bilinearly; its unit is metres unless the band says another.

    Longitude and latitude are taken to be on the datum that the grid belongs to. name: of the file.
    """

    name: str
    grid: Raster

    def __post_init__(self) -> None:
        if min(self.grid.frame.columns, self.grid.frame.rows) < 2:
            raise InputError(
                f"{self.name} cannot serve as --height-grid",
                "a single row or column has nothing between its values",
                "give a grid of two dimensions",
            )
        if not isinstance(self.grid.frame.crs, GeographicCRS | ProjectedCRS):
            raise InputError(
                f"{self.name} cannot serve as --height-grid",
                f"where its values lie is unknown: {label(self.grid.frame.crs)}",
                "give it a CRS with zembrel label",
            )

    @cached_property
    def _whole(self) -> Raster:
        return around(self.grid)

    def __call__(self, lon: Array, lat: Array) -> Array:
        """Metres at longitudes from Greenwich and latitudes, radians; NaN off the grid and at its voids."""
        shape = np.shape(lon)
        u, v = self._positions(np.ravel(lon), np.ravel(lat))
        frame = self._whole.frame
        held = (u >= 0) & (u <= frame.columns - 1) & (v >= 0) & (v <= frame.rows - 1)
        found = np.full(u.shape, np.nan)
        if held.any():
            found[held] = self._interpolated(u[held], v[held])
        return found.reshape(shape)

    def _positions(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Column and row, counted from the middle of the first cell, of the view without a seam."""
        crs: CRS | None = self.grid.frame.crs
        assert isinstance(crs, GeographicCRS | ProjectedCRS)
        frame = self._whole.frame
        u, v = frame.corners.position(*crs.from_geographic(lon, lat))
        if crs.circuit is not None and frame.north_up:
            turn, middle = crs.circuit.turn / frame.cell[0], frame.columns / 2
            u = middle + np.mod(u - middle + turn / 2, turn) - turn / 2
        return u - 0.5, v - 0.5

    def _interpolated(self, u: Array, v: Array) -> Array:
        column = np.minimum(np.floor(u).astype(int), self._whole.frame.columns - 2)
        row = np.minimum(np.floor(v).astype(int), self._whole.frame.rows - 2)
        pane = Pane(int(row.min()), int(column.min()), int(row.max()) + 2, int(column.max()) + 2)
        block = self._whole.cells(pane)
        values = np.where(block.valid_of(0), block.cells[0].astype(np.float64), np.nan)
        r, c, down, across = row - pane.top, column - pane.left, v - row, u - column
        upper = (1 - across) * values[r, c] + across * values[r, c + 1]
        lower = (1 - across) * values[r + 1, c] + across * values[r + 1, c + 1]
        band = self.grid.bands[0]
        found: Array = ((1 - down) * upper + down * lower) * band.scale + band.offset
        return found * float(LENGTHS.get(band.unit, 1))
