"""Blocks of cells as encoded tiles of an image and of its overviews: pure, and the same on any thread or
machine."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from zembrel.formats.tiff.encoding import Encoding, Options
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.halving import halved_by_band, overview_methods
from zembrel.raster.model import Band, Block, Cells, Mask
from zembrel.raster.pyramid import LevelPart

_STRIP_BLOCK = 2_000_000  # cells of a block of strips


class Tile(NamedTuple):
    """One encoded tile: level, number within it (plane included), and its bytes."""

    level: int
    number: int
    data: bytes
    is_mask: bool = False


class EncodedTiles(NamedTuple):
    """A block's tiles and what is left of it for the smaller overviews."""

    tiles: list[Tile]
    rest: LevelPart | None
    masked: bool


@dataclass(frozen=True)
class Level:
    """One size of the image in segments of `rows` x `columns`, in so many planes."""

    width: int
    height: int
    rows: int
    columns: int
    planes: int

    @property
    def across(self) -> int:
        return -(-self.width // self.columns)

    @property
    def per_plane(self) -> int:
        return self.across * -(-self.height // self.rows)

    @property
    def pane(self) -> Pane:
        return Pane(0, 0, self.height, self.width)

    def index(self, part: Pane) -> int:
        """Number within its plane of the segment that begins where `part` does."""
        return part.top // self.rows * self.across + part.left // self.columns


@dataclass(frozen=True)
class TileEncoder:
    """A block of 2 x 2 tiles, or of strips, with its tile of the first overview.

    methods: of halving, for each band; first: the level from which tiles are wanted.
    """

    encoding: Encoding
    levels: tuple[Level, ...]
    methods: tuple[str, ...]
    first: int = 0

    @property
    def tiled(self) -> bool:
        return not self.encoding.options.strip

    def encode(self, pane: Pane, block: Block) -> EncodedTiles:
        """The tiles of `block`. Raises RefusedError for cells that the codec cannot hold."""
        valid = block.valid[None] if block.valid is not None and block.valid.ndim == 2 else block.valid
        cells: Cells = block.cells.astype(self.encoding.dtype, copy=False)
        part = LevelPart(pane, self.encoding.filled(cells, valid), valid)
        tiles = self.tiles(0, part) if not self.first else []
        rest = None
        if len(self.levels) > 1:
            part = self.halved(part)
            tiles += self.tiles(1, part)
            if len(self.levels) > 2:
                rest = self.halved(part)
        return EncodedTiles(tiles, rest, block.valid is not None)

    def halved(self, part: LevelPart) -> LevelPart:
        """The same as a part of the next level."""
        smaller, ok = halved_by_band(part.cells, part.valid, self.methods, opacity=self.encoding.alpha)
        top, left = part.pane.top // 2, part.pane.left // 2
        pane = Pane(top, left, top + smaller.shape[1], left + smaller.shape[2])
        return LevelPart(pane, self.encoding.filled(smaller, ok), ok)

    def tiles(self, number: int, part: LevelPart) -> list[Tile]:
        """The segments of level `number` that `part`, which begins on a segment's corner, holds."""
        level, encoding, tiles = self.levels[number], self.encoding, []
        for piece in part.pane.blocks(level.rows, level.columns):
            rows, columns = piece.within(part.pane)
            here, index = part.cells[:, rows, columns], level.index(piece)
            shape = (level.rows, level.columns) if self.tiled else piece.shape
            if encoding.planar:
                for plane in range(len(here)):
                    data = encoding.segment(here[plane : plane + 1], shape)
                    tiles.append(Tile(number, plane * level.per_plane + index, data))
            else:
                tiles.append(Tile(number, index, encoding.segment(here, shape)))
            if part.valid is not None and encoding.needs_mask:
                known: Mask = np.logical_or.reduce(part.valid[:, rows, columns])
                tiles.append(Tile(number, index, encoding.mask_segment(known, shape), True))
        return tiles

    def blocks(self) -> tuple[Pane, ...]:
        """The panes that are encoded together, in order."""
        full = self.levels[0]
        if self.tiled:
            return tuple(full.pane.blocks(2 * full.rows, 2 * full.columns))
        strips = max(1, _STRIP_BLOCK // (full.rows * full.width))
        return tuple(full.pane.blocks(strips * full.rows, full.width))


def tile_encoder(
    frame: Frame, bands: tuple[Band, ...], options: Options, byte_order: str = "<", **more: Any
) -> TileEncoder:
    """The encoder of an image on `frame`. Raises RefusedError for what the codec cannot hold, UsageError for
    overviews by no method."""
    encoding = Encoding(bands, options, byte_order)
    methods = overview_methods(options.overviews, bands, "mode" if encoding.categorical else "mean")
    planes, side = len(bands) if encoding.planar else 1, options.tile
    width, height = frame.columns, frame.rows
    if options.strip:
        levels = [Level(width, height, min(options.strip, height), width, planes)]
    else:
        levels = [Level(width, height, side, side, planes)]
        while methods and max(width, height) > side:
            width, height = -(-width // 2), -(-height // 2)
            levels.append(Level(width, height, side, side, planes))
    return TileEncoder(encoding, tuple(levels), methods, **more)
