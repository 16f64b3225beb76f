"""Tile matrix sets: where the tiles of each zoom lie.

Source: OGC 17-083r4, "Two Dimensional Tile Matrix Set and Tile Set Metadata", annex D.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

from zembrel.errors import UsageError, nearest_name
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame

Bounds = tuple[float, float, float, float]
_WHOLE = 1e-4  # part of a turn that may lack of what goes around the Earth
FINEST = 26  # zoom at which a cell of a web tile is about 2 mm


class TileAddress(NamedTuple):
    """A tile: columns count from the left, rows from the top."""

    zoom: int
    column: int
    row: int

    @property
    def parent(self) -> TileAddress:
        return TileAddress(self.zoom - 1, self.column >> 1, self.row >> 1)


class TileRange(NamedTuple):
    """Columns and rows of tiles at one zoom, the ends not included.

    around: columns of all the Earth, for tiles that go on past its edge, where they begin anew; else 0.
    """

    zoom: int
    left: int
    top: int
    right: int
    bottom: int
    around: int = 0

    @property
    def tiles(self) -> int:
        return len(self.columns) * (self.bottom - self.top)

    @property
    def columns(self) -> Sequence[int]:
        """The columns, each once."""
        across = range(self.left, self.right)
        return sorted({column % self.around for column in across}) if self.around else across

    def coarser(self, steps: int) -> TileRange:
        """The tiles so many zooms lower that hold these."""
        up = (1 << steps) - 1
        return TileRange(
            self.zoom - steps, self.left >> steps, self.top >> steps,
            (self.right + up) >> steps, (self.bottom + up) >> steps, self.around >> steps,
        )  # fmt: skip


class Tiling(NamedTuple):
    """A tile matrix set whose tiles halve from zoom to zoom.

    left and top: of the first tile, span: of a tile at zoom 0, in units of the CRS; columns and rows: of that
    zoom.
    """

    name: str
    code: int
    left: float
    top: float
    span: float
    columns: int = 1
    rows: int = 1

    @property
    def crs(self) -> CRS:
        return by_code(self.code)

    def tile_span(self, zoom: int) -> float:
        """The side of a tile, in units of the CRS."""
        return self.span / (1 << zoom)

    def range_of(self, bounds: Bounds, zoom: int) -> TileRange:
        """The tiles that `bounds`, in the CRS, meet; edges that only touch do not count."""
        span, (west, south, east, north) = self.tile_span(zoom), bounds
        slack = 1e-9 * self.span / span  # of a tile, for bounds that went through another CRS
        columns = self.columns << zoom
        left = max(0, math.floor((west - self.left) / span + slack))
        top = max(0, math.floor((self.top - north) / span + slack))
        right = math.ceil((east - self.left) / span - slack)
        bottom = min(self.rows << zoom, math.ceil((self.top - south) / span - slack))
        goes_on = self.is_round and right > columns and east - west < columns * span * (1 - _WHOLE)
        right = max(right if goes_on else min(columns, right), left + 1)
        return TileRange(zoom, left, top, right, max(bottom, top + 1), columns if goes_on else 0)

    @property
    def is_round(self) -> bool:
        """Whether the first column is the neighbour of the last one."""
        circuit = self.crs.circuit
        return circuit is not None and abs(self.columns * self.span / circuit.turn - 1) < _WHOLE

    def bounds_of(self, tiles: TileRange) -> Bounds:
        """West, south, east and north of some tiles."""
        span = self.tile_span(tiles.zoom)
        return (
            self.left + tiles.left * span, self.top - tiles.bottom * span,
            self.left + tiles.right * span, self.top - tiles.top * span,
        )  # fmt: skip

    def frame_of(self, tiles: TileRange, cells: int) -> Frame:
        """The frame of some tiles of so many cells a side."""
        west, _, _, north = self.bounds_of(tiles)
        cell = self.tile_span(tiles.zoom) / cells
        return Frame(
            self.crs, Affine(west, north, cell, -cell),
            (tiles.right - tiles.left) * cells, (tiles.bottom - tiles.top) * cells,
        )  # fmt: skip

    def fitting(self, cell: float, cells: int) -> int:
        """The lowest zoom whose cells are not larger than `cell`, but for a tenth."""
        wanted = math.log2(self.span / cells / (cell * 1.1))
        return min(max(0, math.ceil(wanted)), FINEST)


_WEB = 20037508.3427892
TILINGS = {
    tiling.name: tiling
    for tiling in (
        Tiling("WebMercatorQuad", 3857, -_WEB, _WEB, 2 * _WEB),
        Tiling("WorldMercatorWGS84Quad", 3395, -_WEB, _WEB, 2 * _WEB),
        Tiling("WorldCRS84Quad", 4326, -180.0, 90.0, 180.0, 2, 1),
        Tiling("EuropeanETRS89_LAEAQuad", 3035, 2_000_000.0, 5_500_000.0, 4_000_000.0),
    )
}


def tiling_called(name: str) -> Tiling:
    """The tile matrix set of that name. Raises UsageError with the near miss."""
    found = next((tiling for tiling in TILINGS.values() if tiling.name.lower() == name.lower()), None)
    if found is None:
        what = f"there is no tile matrix set {name!r}"
        raise UsageError(what, f"known are {', '.join(TILINGS)}", nearest_name(name, list(TILINGS)))
    return found
