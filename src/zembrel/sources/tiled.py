"""Tiles by zoom, column and row: of tilings that halve from zoom to zoom."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

from zembrel.errors import EmptySourceError, InputError
from zembrel.formats.legendfile import read_legend
from zembrel.grid.tiling import TileRange, Tiling, tiling_called
from zembrel.raster.legend import Legend
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tilecells import TileCells
from zembrel.sources.wish import MARGIN, WORLD, SourceLayer, SourceLayers, Wish
from zembrel.web.addresses import without_login
from zembrel.web.asking import Request

_ZOOMS = "0-18"


@dataclass(frozen=True)
class TileAddresses:
    """Addresses of the tiles of one zoom. columns and rows: in all at that zoom."""

    source: SourceFile
    tiles: TileRange
    columns: int
    rows: int

    def piece(self, row: int, column: int) -> Request:
        """The tile at a row and column of the range."""
        zoom, y = self.tiles.zoom, self.tiles.top + row
        x = (self.tiles.left + column) % self.columns  # beyond the antimeridian it begins again
        south = self.rows - 1 - y
        number = south if self.source.kind == "tms" else y
        address, told = self._templates
        for slot, value in (("{z}", zoom), ("{x}", x), ("{y}", number), ("{-y}", south)):
            address, told = address.replace(slot, str(value)), told.replace(slot, str(value))
        return Request(address, told, told)

    @cached_property
    def _templates(self) -> tuple[str, str]:
        """The address, and the form of it that may be told, but for zoom, column and row."""
        return self.source.filled(secret=True), without_login(self.source.filled(secret=False))


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """The tiles as a raster of their highest zoom, with the others as coarser levels."""
    tiling, (lowest, highest) = tiling_called(str(source.get("tiling", "WebMercatorQuad"))), zooms_of(source)
    if wish.zoom is not None:
        if not lowest <= wish.zoom <= highest:
            what = f"{source.name} has no zoom {wish.zoom}"
            raise InputError(
                what, f"it has {lowest} to {highest}", f"add --zoom {min(max(wish.zoom, lowest), highest)}"
            )
        lowest = highest = wish.zoom
    levels = [
        level for zoom in range(highest, lowest - 1, -1)
        if (level := _level(source, service, wish, tiling, zoom)) is not None
    ]  # fmt: skip
    if not levels:
        raise nothing_there(source)
    first = levels[0]
    raster = RemoteBlocks(
        first.service, first.addresses, first.holding, first.frame, first.side, coarser_ones=tuple(levels[1:])
    )
    return SourceLayers((SourceLayer(source.name, raster),))


def _level(
    source: SourceFile, service: Service, wish: Wish, tiling: Tiling, zoom: int
) -> RemoteBlocks | None:
    cells = int(source.get("tile_cells", 256))
    tiles = _range(source, wish, tiling, zoom, cells)
    if tiles is None:
        return None
    addresses = TileAddresses(source, tiles, tiling.columns << zoom, tiling.rows << zoom)
    return RemoteBlocks(
        service, addresses, holding_of(source, (cells, cells)), tiling.frame_of(tiles, cells), (cells, cells)
    )


def _range(source: SourceFile, wish: Wish, tiling: Tiling, zoom: int, cells: int) -> TileRange | None:
    """The tiles of a zoom that an area needs, and some cells around it; None if it has none there."""
    whole = TileRange(zoom, 0, 0, tiling.columns << zoom, tiling.rows << zoom)
    bounds = wish.bounds_in(tiling.crs, source.get("bounds"))
    if bounds is None:
        return whole
    west, south, east, north = bounds
    span = tiling.tile_span(zoom)
    edge = MARGIN * span / cells
    left, top = math.floor((west - edge - tiling.left) / span), math.floor((tiling.top - north - edge) / span)
    right = math.ceil((east + edge - tiling.left) / span)
    bottom = math.ceil((tiling.top - south + edge) / span)
    if tiling.crs.circuit is None:
        left, right = max(left, 0), min(right, whole.right)
    top, bottom = max(top, 0), min(bottom, whole.bottom)
    return TileRange(zoom, left, top, right, bottom) if left < right and top < bottom else None


def zooms_of(source: SourceFile) -> tuple[int, int]:
    """The lowest and the highest zoom that a source has. Raises InputError."""
    said = str(source.get("zooms", _ZOOMS))
    first, dash, last = said.partition("-")
    if (
        not first.isdigit()
        or (dash and not last.isdigit())
        or int(first) > int(last or first)
        or int(last or first) > 30
    ):
        why = "the lowest and the highest zoom are needed"
        raise InputError(f"{source.path}: zooms = {said!r}", why, 'write zooms = "0-18"')
    return int(first), int(last or first)


def holding_of(source: SourceFile, shape: tuple[int, int]) -> TileCells:
    """What the cells of its tiles or pictures mean. Raises InputError."""
    legend: Legend | None = read_legend(source.resolved("legend")) if source.get("legend") else None
    return TileCells(
        source.holds, shape, legend, source.heights, str(source.get("unit", "")), source.get("nodata")
    )


def nothing_there(source: SourceFile) -> EmptySourceError:
    """The error for an area where a source has nothing."""
    said = source.get("bounds", list(WORLD))
    why = f"it covers {', '.join(f'{value:g}' for value in said)} in degrees, as far as is known"
    return EmptySourceError(
        f"{source.name} has nothing in the area", why, "check --within, or the bounds of the source"
    )
