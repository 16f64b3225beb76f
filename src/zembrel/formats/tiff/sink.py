"""Writing GeoTIFF: tiles and overviews as they come, put together as one file at the end.

A block of 2 x 2 tiles is encoded where it was computed, together with its tile of the first
overview; the smaller overviews are built from strips, so memory does not grow with the image.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import tags
from zembrel.formats.tiff.assemble import Fields, Image, Integers, write_tiff
from zembrel.formats.tiff.description import write_description
from zembrel.formats.tiff.encoding import Encoding, Options, mask_fields, number_text
from zembrel.formats.tiff.geokeys import frame_tags
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.halving import halved_by_band, overview_methods
from zembrel.raster.model import Band, Block, Cells, Mask

_STRIP_BLOCK = 2_000_000  # cells of a block of strips


class Tile(NamedTuple):
    """One encoded tile: level, number within it (plane included), and its bytes."""

    level: int
    number: int
    data: bytes
    is_mask: bool = False


class Encoded(NamedTuple):
    """A block's tiles and what is left of it for the smaller overviews."""

    tiles: list[Tile]
    rest: tuple[Pane, Cells, Mask | None] | None
    masked: bool


@dataclass
class Level:
    """One size of the image, and where its tiles lie in the spool so far."""

    width: int
    height: int
    rows: int  # of a segment
    columns: int
    planes: int
    offsets: Integers = field(init=False)
    counts: Integers = field(init=False)
    mask_offsets: Integers = field(init=False)
    mask_counts: Integers = field(init=False)

    def __post_init__(self) -> None:
        per_plane = self.across * -(-self.height // self.rows)
        self.offsets, self.counts = np.zeros((2, per_plane * self.planes), np.int64)
        self.mask_offsets, self.mask_counts = np.zeros((2, per_plane), np.int64)

    @property
    def across(self) -> int:
        return -(-self.width // self.columns)

    @property
    def per_plane(self) -> int:
        return self.mask_offsets.size

    @property
    def pane(self) -> Pane:
        return Pane(0, 0, self.height, self.width)

    def index(self, part: Pane) -> int:
        """Number within its plane of the segment that begins where `part` does."""
        return part.top // self.rows * self.across + part.left // self.columns


@dataclass
class Strip:
    """One row of tiles of a small overview in the making."""

    top: int
    cells: Cells
    valid: npt.NDArray[np.bool_]
    masked: bool = False


class TiffSink:
    """A `Sink` for one GeoTIFF at `path`; spools are kept in the folder of `path`."""

    def __init__(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], options: Options, byte_order: str = "<"
    ) -> None:
        self.path, self.frame, self.bands, self.options = path, frame, bands, options
        self.encoding = Encoding(bands, options, byte_order)
        self.dtype = self.encoding.dtype
        self.tiled = not options.strip
        usual = "mode" if self.encoding.categorical else "mean"
        self.overviews = overview_methods(options.overviews, bands, usual)
        self.levels = self._plan_levels()
        self._strips: dict[int, Strip] = {}
        self._any_masked = False
        self._spool_path = path.with_name(path.name + ".tiles")
        self._spool: BinaryIO = self._spool_path.open("wb")
        self._spool_size = 0

    def _plan_levels(self) -> list[Level]:
        planes, side = len(self.bands) if self.encoding.planar else 1, self.options.tile
        width, height = self.frame.columns, self.frame.rows
        if not self.tiled:
            return [Level(width, height, min(self.options.strip, height), width, planes)]
        levels = [Level(width, height, side, side, planes)]
        while self.overviews and max(width, height) > side:
            width, height = -(-width // 2), -(-height // 2)
            levels.append(Level(width, height, side, side, planes))
        return levels

    @property
    def blocks(self) -> Iterator[Pane]:
        full = self.levels[0]
        if self.tiled:
            return self.frame.pane.blocks(2 * full.rows, 2 * full.columns)
        strips = max(1, _STRIP_BLOCK // (full.rows * full.width))
        return self.frame.pane.blocks(strips * full.rows, full.width)

    # -- in parallel --------------------------------------------------------------------------

    def encode(self, pane: Pane, block: Block) -> Encoded:
        valid = block.valid[None] if block.valid is not None and block.valid.ndim == 2 else block.valid
        cells = self.encoding.filled(block.cells.astype(self.dtype, copy=False), valid)
        tiles = self._tiles(0, pane, cells, valid)
        rest = None
        if len(self.levels) > 1:
            pane, cells, valid = self._halved(pane, cells, valid)
            tiles += self._tiles(1, pane, cells, valid)
            if len(self.levels) > 2:
                rest = self._halved(pane, cells, valid)
        return Encoded(tiles, rest, block.valid is not None)

    def _halved(self, pane: Pane, cells: Cells, valid: Mask | None) -> tuple[Pane, Cells, Mask | None]:
        smaller, ok = halved_by_band(cells, valid, self.overviews, opacity=self.encoding.alpha)
        top, left = pane.top // 2, pane.left // 2
        return (
            Pane(top, left, top + smaller.shape[1], left + smaller.shape[2]),
            self.encoding.filled(smaller, ok),
            ok,
        )

    def _tiles(self, number: int, pane: Pane, cells: Cells, valid: Mask | None) -> list[Tile]:
        """The segments of level `number` that `pane`, which begins on a segment's corner, holds."""
        level, encoding, tiles = self.levels[number], self.encoding, []
        for part in pane.blocks(level.rows, level.columns):
            rows, columns = part.within(pane)
            here, index = cells[:, rows, columns], level.index(part)
            shape = (level.rows, level.columns) if self.tiled else part.shape
            if encoding.planar:
                for plane in range(len(self.bands)):
                    data = encoding.segment(here[plane : plane + 1], shape)
                    tiles.append(Tile(number, plane * level.per_plane + index, data))
            else:
                tiles.append(Tile(number, index, encoding.segment(here, shape)))
            if valid is not None and encoding.needs_mask:
                known = np.logical_or.reduce(valid[:, rows, columns])
                tiles.append(Tile(number, index, encoding.mask_segment(known, shape), True))
        return tiles

    # -- in order -----------------------------------------------------------------------------

    def append(self, pane: Pane, encoded: Encoded) -> None:
        self._any_masked |= encoded.masked
        self._store(encoded.tiles)
        if encoded.rest is not None:
            self._collect(2, *encoded.rest)

    def _store(self, tiles: list[Tile]) -> None:
        for tile in tiles:
            level = self.levels[tile.level]
            offsets, counts = (
                (level.mask_offsets, level.mask_counts) if tile.is_mask else (level.offsets, level.counts)
            )
            offsets[tile.number], counts[tile.number] = self._spool_size, len(tile.data)
            self._spool.write(tile.data)
            self._spool_size += len(tile.data)

    def _collect(self, number: int, pane: Pane, cells: Cells, valid: Mask | None) -> None:
        """Put a piece into the strip of its level; a full strip is encoded and handed down."""
        level, side = self.levels[number], self.options.tile
        strip = self._strips.get(number)
        if strip is None:
            top = pane.top // side * side
            rows = min(side, level.height - top)
            layers = len(self.bands) if valid is not None and valid.shape[0] > 1 else 1
            strip = self._strips[number] = Strip(
                top,
                np.zeros((len(self.bands), rows, level.width), self.dtype),
                np.ones((layers, rows, level.width), bool),
            )
        into = slice(pane.top - strip.top, pane.bottom - strip.top), slice(pane.left, pane.right)
        strip.cells[(slice(None), *into)] = cells
        if valid is not None:
            if valid.shape[0] > strip.valid.shape[0]:
                strip.valid = np.repeat(strip.valid, valid.shape[0], axis=0)
            strip.valid[(slice(None), *into)] = valid
            strip.masked = True
        if pane.right == level.width and pane.bottom == strip.top + strip.cells.shape[1]:
            del self._strips[number]
            self._hand_down(number, strip)

    def _hand_down(self, number: int, strip: Strip) -> None:
        pane = Pane(strip.top, 0, strip.top + strip.cells.shape[1], strip.cells.shape[2])
        valid = strip.valid if strip.masked else None
        self._store(self._tiles(number, pane, strip.cells, valid))
        if number + 1 < len(self.levels):
            self._collect(number + 1, *self._halved(pane, strip.cells, valid))

    @property
    def masked(self) -> bool:
        """Whether the file needs masks to say what is invalid."""
        return self._any_masked and self.encoding.needs_mask

    def images(self) -> list[Image]:
        """Directories and stored segments of all levels, each followed by its mask if there is one."""
        if self.masked:
            self._fill_masks()
        self._spool.close()
        images = []
        for number, level in enumerate(self.levels):
            tables = level.offsets, level.counts
            images.append(Image(self._fields(number), self._spool_path, *tables, self.tiled))
            if self.masked:
                tables = level.mask_offsets, level.mask_counts
                images.append(Image(self._mask_fields(number), self._spool_path, *tables, self.tiled))
        return images

    def finish(self) -> None:
        write_tiff(self.path, self.images())
        self.discard_spool()

    def discard_spool(self) -> None:
        self._spool_path.unlink()

    def abort(self) -> None:
        self._spool.close()

    def _fill_masks(self) -> None:
        """Masks of the segments that had none because all their cells are valid."""
        full: dict[tuple[int, int], bytes] = {}
        for number, level in enumerate(self.levels):
            for index in np.flatnonzero(level.mask_counts == 0):
                row, column = divmod(int(index), level.across)
                whole = Pane(0, 0, level.rows, level.columns).moved(row * level.rows, column * level.columns)
                part = level.pane.meet(whole)
                assert part is not None
                if part.shape not in full:
                    shape = whole.shape if self.tiled else part.shape
                    full[part.shape] = self.encoding.mask_segment(np.ones(part.shape, bool), shape)
                self._store([Tile(number, int(index), full[part.shape], True)])

    # -- directories --------------------------------------------------------------------------

    def _fields(self, number: int) -> Fields:
        fields = self._shared_fields(self.levels[number], tags.REDUCED if number else 0)
        fields |= self.encoding.fields()
        nodata = self.encoding.nodata
        if nodata is not None or (self.dtype.kind == "f" and self._any_masked):
            fields[tags.NODATA] = tags.ASCII, "nan" if nodata is None else number_text(nodata)
        if number == 0:
            fields[tags.IMAGE_DESCRIPTION] = tags.ASCII, write_description(self.bands)
            fields |= frame_tags(self.frame)
        return fields

    def _mask_fields(self, number: int) -> Fields:
        kind = tags.MASK | (tags.REDUCED if number else 0)
        return self._shared_fields(self.levels[number], kind) | mask_fields()

    def _shared_fields(self, level: Level, kind: int) -> Fields:
        fields: Fields = {
            tags.IMAGE_WIDTH: (tags.LONG, level.width),
            tags.IMAGE_LENGTH: (tags.LONG, level.height),
        }
        if self.tiled:
            fields |= {
                tags.TILE_WIDTH: (tags.SHORT, self.options.tile),
                tags.TILE_LENGTH: (tags.SHORT, self.options.tile),
            }
        else:
            fields[tags.ROWS_PER_STRIP] = tags.LONG, level.rows
        return fields | {tags.NEW_SUBFILE_TYPE: (tags.LONG, kind)} if kind else fields
