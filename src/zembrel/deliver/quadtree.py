"""All zooms of a raster in one pass: blocks of the finest tiles, and parents from their four children.

Blocks come in the order of a quadtree (G. M. Morton, 1966), so that of each zoom at most three tiles wait for
their neighbours: memory does not grow with the raster.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zembrel.deliver.tilepicture import Cells, TilePicture
from zembrel.engine.limits import Limits, each
from zembrel.grid.pane import Pane
from zembrel.grid.tiling import TileAddress, TileRange
from zembrel.raster.halving import halved
from zembrel.raster.model import Raster, has_alpha

_BLOCK = 1024  # cells along a side of a block, or one tile: small enough that two work at a time


class EncodedTile(NamedTuple):
    """The bytes of a tile and their format."""

    address: TileAddress
    data: bytes
    format: str


class BlockTiles(NamedTuple):
    """A block: its tiles, and all of it as the one tile that holds them; None where nothing is valid."""

    tiles: list[EncodedTile]
    top: tuple[Cells, Cells | None] | None


@dataclass(frozen=True, eq=False)
class TileTask:
    """Makes the tiles of a block.

    view: on the frame of `tiles`, those of the finest zoom; cells: along a side of a tile; steps: zooms that
    a block holds below its finest one; method: of halving; whole: whether tiles at the edges are as large as
    all others, void beyond the view, or end with it.
    """

    view: Raster
    tiles: TileRange
    cells: int
    steps: int
    picture: TilePicture
    method: str = "mean"
    whole: bool = True

    def __call__(self, block: TileAddress) -> BlockTiles:
        held = self._read(block)
        if held is None:
            return BlockTiles([], None)
        cells, valid = held
        opacity, made = has_alpha(self.view.bands), list[EncodedTile]()
        for step in range(self.steps, -1, -1):
            if step < self.steps:
                cells, valid = self._halved(cells, valid, opacity)
            made += self._tiles(block, step, cells, valid)
        return BlockTiles(made, (cells, valid))

    def _read(self, block: TileAddress) -> tuple[Cells, Cells | None] | None:
        """Cells and validity of a block, (bands, side, side) and (side, side); None if all is void."""
        whole: tuple[Cells, Cells] | None = None
        for turn in (0, self.tiles.around) if self.tiles.around else (0,):
            pane = self._pane_of(block, turn)
            met = pane.meet(self.view.frame.pane)
            if met is None:
                continue
            found = self.view.cells(met)
            known = everywhere(found.valid)
            if known is not None and not known.any():
                continue
            if met == pane:
                return found.cells, known
            if whole is None:
                whole = (
                    np.zeros((len(found.cells), *pane.shape), found.cells.dtype),
                    np.zeros(pane.shape, bool),
                )
            into = met.within(pane)
            fresh = np.ones(met.shape, bool) if known is None else known
            whole[0][(slice(None), *into)] = np.where(fresh, found.cells, whole[0][(slice(None), *into)])
            whole[1][into] |= fresh
        return whole

    def _pane_of(self, block: TileAddress, turn: int) -> Pane:
        """Where a block lies in the view, `turn` columns of tiles further."""
        side = self.cells << self.steps
        left = ((block.column << self.steps) + turn - self.tiles.left) * self.cells
        top = ((block.row << self.steps) - self.tiles.top) * self.cells
        return Pane(top, left, top + side, left + side)

    def _halved(self, cells: Cells, valid: Cells | None, opacity: bool) -> tuple[Cells, Cells | None]:
        made, known = halved(cells, None if valid is None else valid[None], self.method, opacity=opacity)
        return made, None if known is None else known[0]

    def _tiles(
        self, block: TileAddress, step: int, cells: Cells, valid: Cells | None
    ) -> Iterator[EncodedTile]:
        """The tiles of one zoom of a block."""
        count, size = 1 << step, self.cells
        for row in range(count):
            for column in range(count):
                place = TileAddress(
                    block.zoom + step, (block.column << step) + column, (block.row << step) + row
                )
                rows, columns = self._size_of(place)
                if rows <= 0 or columns <= 0:
                    continue
                y, x = row * size, column * size
                part = (slice(y, y + rows), slice(x, x + columns))
                found = self.picture.encode(
                    cells[(slice(None), *part)], None if valid is None else valid[part]
                )
                if found is not None:
                    yield EncodedTile(place, *found)

    def _size_of(self, place: TileAddress) -> tuple[int, int]:
        """Rows and columns of a tile."""
        if self.whole:
            return self.cells, self.cells
        up, (rows, columns) = self.tiles.zoom - place.zoom, self.view.frame.pane.shape
        left, top = self.tiles.left >> up, self.tiles.top >> up
        rows = -(-rows >> up) - (place.row - top) * self.cells
        columns = -(-columns >> up) - (place.column - left) * self.cells
        return min(self.cells, rows), min(self.cells, columns)

    def joined(self, address: TileAddress, parts: Sequence[tuple[TileAddress, BlockTiles]]) -> BlockTiles:
        """The parent of up to four tiles."""
        held = [(child, made.top) for child, made in parts if made.top is not None]
        if not held:
            return BlockTiles([], None)
        size, (cells, _) = self.cells, held[0][1]
        whole = np.zeros((len(cells), 2 * size, 2 * size), cells.dtype)
        known = np.zeros((2 * size, 2 * size), bool)
        for child, (cells, valid) in held:
            row, column = (child.row & 1) * size, (child.column & 1) * size
            into = (slice(row, row + size), slice(column, column + size))
            whole[(slice(None), *into)] = cells
            known[into] = True if valid is None else valid
        cells, valid = self._halved(whole, None if known.all() else known, has_alpha(self.view.bands))
        return BlockTiles(list(self._tiles(address, 0, cells, valid)), (cells, valid))


def everywhere(valid: Cells | None) -> Cells | None:
    """Where all bands are valid, (rows, columns)."""
    return valid if valid is None or valid.ndim == 2 else np.logical_and.reduce(valid)


def block_steps(cells: int, zooms: int) -> int:
    """How many zooms below the finest one a block holds, of so many that are made."""
    return min(max(1, _BLOCK // cells).bit_length() - 1, zooms - 1)


def tiles_of(
    task: TileTask, lowest: int, limits: Limits, made_by: Callable[[TileAddress], BlockTiles] | None = None
) -> Iterator[list[EncodedTile]]:
    """The tiles of all zooms from `lowest`, some at a time; of each zoom in the order of a quadtree.

    made_by: what makes a block, if not the task itself.
    """
    held = task.tiles.coarser(task.steps)
    blocks = sorted(
        (
            TileAddress(held.zoom, column, row)
            for row in range(held.top, held.bottom)
            for column in held.columns
        ),
        key=_along_the_tree,
    )
    side = task.cells << task.steps
    cell_bytes = sum(band.dtype.itemsize for band in task.view.bands) + 1
    done = each(
        blocks, made_by or task, limits, size=lambda _: side * side, item_bytes=side * side * cell_bytes
    )
    waiting: list[tuple[TileAddress, BlockTiles]] = []
    for number, (block, made) in enumerate(zip(blocks, done, strict=True), 1):
        yield made.tiles
        waiting.append((block, made._replace(tiles=[])))
        following = blocks[number] if number < len(blocks) else None
        while waiting[-1][0].zoom > lowest and not _has_more(waiting[-1][0].parent, following):
            parent = waiting[-1][0].parent
            children = [entry for entry in waiting if entry[0].zoom > lowest and entry[0].parent == parent]
            del waiting[-len(children) :]
            made = task.joined(parent, children)
            yield made.tiles
            waiting.append((parent, made._replace(tiles=[])))


def _has_more(parent: TileAddress, following: TileAddress | None) -> bool:
    """Whether the block that comes next lies in a tile as well."""
    if following is None:
        return False
    steps = following.zoom - parent.zoom
    return (following.column >> steps, following.row >> steps) == (parent.column, parent.row)


def _along_the_tree(address: TileAddress) -> int:
    """The place of a tile along the tree: bits of row and column in turns."""
    place = 0
    for bit in range(address.zoom + 1):
        place |= (address.column >> bit & 1) << 2 * bit | (address.row >> bit & 1) << 2 * bit + 1
    return place
