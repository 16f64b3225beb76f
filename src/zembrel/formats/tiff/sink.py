"""Writing GeoTIFF: tiles and overviews as they come, put together as one file at the end.

A block of 2 x 2 tiles is encoded where it was computed, together with its tile of the first
overview; the smaller overviews are built from strips, so memory does not grow with the image.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import codecs, tags
from zembrel.formats.tiff.assemble import Fields, Image, Integers, write_tiff
from zembrel.formats.tiff.description import write_description
from zembrel.formats.tiff.geokeys import frame_tags
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Mask, is_photo, shared_type

TILE = 512
CHUNKY_BANDS = 4  # more are stored plane by plane, so that one band can be read alone


class Options(NamedTuple):
    """What can be chosen about a GeoTIFF."""

    codec: str = "deflate"
    level: int | None = 6
    tile: int = TILE
    overviews: bool = True


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
    tile: int
    planes: int
    offsets: Integers = field(init=False)
    counts: Integers = field(init=False)
    mask_offsets: Integers = field(init=False)
    mask_counts: Integers = field(init=False)

    def __post_init__(self) -> None:
        per_plane = self.across * -(-self.height // self.tile)
        self.offsets, self.counts = np.zeros((2, per_plane * self.planes), np.int64)
        self.mask_offsets, self.mask_counts = np.zeros((2, per_plane), np.int64)

    @property
    def across(self) -> int:
        return -(-self.width // self.tile)

    @property
    def per_plane(self) -> int:
        return self.mask_offsets.size

    @property
    def pane(self) -> Pane:
        return Pane(0, 0, self.height, self.width)


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
        self._byte_order = byte_order
        self.path, self.frame, self.bands, self.options = path, frame, bands, options
        self.dtype = shared_type(bands)
        self.categorical = any(band.categorical for band in bands)
        self.planar = len(bands) > CHUNKY_BANDS
        self.predictor = codecs.predictor_for(options.codec, self.dtype, self.categorical)
        self.nodata = next((band.nodata for band in bands if band.nodata is not None), None)
        self.levels = self._plan_levels()
        self._strips: dict[int, Strip] = {}
        self._any_masked = False
        self._full_mask: dict[int, bytes] = {}
        self._spool_path = path.with_name(path.name + ".tiles")
        self._spool: BinaryIO = self._spool_path.open("wb")
        self._spool_size = 0

    def _plan_levels(self) -> list[Level]:
        planes = len(self.bands) if self.planar else 1
        levels = [Level(self.frame.columns, self.frame.rows, self.options.tile, planes)]
        while self.options.overviews and max(levels[-1].width, levels[-1].height) > self.options.tile:
            levels.append(
                Level(-(-levels[-1].width // 2), -(-levels[-1].height // 2), self.options.tile, planes)
            )
        return levels

    @property
    def blocks(self) -> Iterator[Pane]:
        return self.frame.pane.blocks(2 * self.options.tile, 2 * self.options.tile)

    # -- in parallel --------------------------------------------------------------------------

    def encode(self, pane: Pane, block: Block) -> Encoded:
        valid = block.valid[None] if block.valid is not None and block.valid.ndim == 2 else block.valid
        cells = self._filled(block.cells.astype(self.dtype, copy=False), valid)
        tiles = self._tiles(0, pane, cells, valid)
        rest = None
        if len(self.levels) > 1:
            pane, cells, valid = self._halved(pane, cells, valid)
            tiles += self._tiles(1, pane, cells, valid)
            if len(self.levels) > 2:
                rest = self._halved(pane, cells, valid)
        return Encoded(tiles, rest, block.valid is not None)

    def _halved(self, pane: Pane, cells: Cells, valid: Mask | None) -> tuple[Pane, Cells, Mask | None]:
        from zembrel.raster.kernels.halve import halved

        smaller, ok = halved(cells, valid, categorical=self.categorical)
        top, left = pane.top // 2, pane.left // 2
        return (
            Pane(top, left, top + smaller.shape[1], left + smaller.shape[2]),
            self._filled(smaller, ok),
            ok,
        )

    def _filled(self, cells: Cells, valid: Mask | None) -> Cells:
        """Invalid cells as the file holds them: nodata, NaN, or 0 under the mask."""
        if valid is None:
            return cells
        value = self.nodata if self.nodata is not None else (math.nan if self.dtype.kind == "f" else 0)
        return np.where(valid, cells, np.asarray(value, self.dtype))

    def _tiles(self, number: int, pane: Pane, cells: Cells, valid: Mask | None) -> list[Tile]:
        """The tiles of level `number` that `pane`, which begins on a tile's corner, holds."""
        level, side, tiles = self.levels[number], self.options.tile, []
        for part in pane.blocks(side, side):
            rows, columns = part.within(pane)
            index = part.top // side * level.across + part.left // side
            here = cells[:, rows, columns]
            if self.planar:
                for plane in range(len(self.bands)):
                    data = self._encode_tile(here[plane : plane + 1])
                    tiles.append(Tile(number, plane * level.per_plane + index, data))
            else:
                tiles.append(Tile(number, index, self._encode_tile(here)))
            if valid is not None and self._needs_mask:
                tiles.append(
                    Tile(
                        number, index, self._encode_mask(np.logical_or.reduce(valid[:, rows, columns])), True
                    )
                )
        return tiles

    @property
    def _needs_mask(self) -> bool:
        return self.nodata is None and self.dtype.kind != "f"

    def _encode_tile(self, cells: Cells) -> bytes:
        from zembrel.formats.tiff.packing import packed

        tile = packed(cells, self.options.tile, differences=self.predictor == codecs.HORIZONTAL)
        return codecs.encode(self.options.codec, self.options.level, tile, self.predictor, self._byte_order)

    def _encode_mask(self, valid: Mask) -> bytes:
        side = self.options.tile
        tile = np.zeros((side, side), bool)
        tile[: valid.shape[0], : valid.shape[1]] = valid
        bits = np.packbits(tile, axis=1)
        return codecs.CODECS["deflate"].encode(bits, 6)

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
        return self._any_masked and self._needs_mask

    def images(self) -> list[Image]:
        """Directories and stored segments of all levels, each followed by its mask if there is one."""
        if self.masked:
            self._fill_masks()
        self._spool.close()
        images = []
        for number, level in enumerate(self.levels):
            images.append(Image(self._fields(number), self._spool_path, level.offsets, level.counts))
            if self.masked:
                fields = self._mask_fields(number)
                images.append(Image(fields, self._spool_path, level.mask_offsets, level.mask_counts))
        return images

    def finish(self) -> None:
        write_tiff(self.path, self.images())
        self.discard_spool()

    def discard_spool(self) -> None:
        self._spool_path.unlink()

    def abort(self) -> None:
        self._spool.close()

    def _fill_masks(self) -> None:
        """Masks of the tiles that had none because all their cells are valid."""
        side = self.options.tile
        for number, level in enumerate(self.levels):
            for index in np.flatnonzero(level.mask_counts == 0):
                row, column = divmod(int(index), level.across)
                part = level.pane.meet(Pane(0, 0, side, side).moved(row * side, column * side))
                assert part is not None
                data = self._encode_mask(np.ones(part.shape, bool))
                self._store([Tile(number, int(index), data, True)])

    # -- directories --------------------------------------------------------------------------

    def _fields(self, number: int) -> Fields:
        level, count, size = self.levels[number], len(self.bands), self.dtype.itemsize
        legend = self.bands[0].legend
        palette = legend is not None and self.dtype == np.uint8 and count == 1
        photo = is_photo(self.bands)
        photometric = tags.PALETTE if palette else tags.RGB if photo else tags.BLACK_IS_ZERO
        fields = self._shared_fields(level, tags.REDUCED if number else 0) | {
            tags.BITS_PER_SAMPLE: (tags.SHORT, [8 * size] * count),
            tags.COMPRESSION: (tags.SHORT, codecs.CODECS[self.options.codec].code),
            tags.PHOTOMETRIC: (tags.SHORT, photometric),
            tags.SAMPLES_PER_PIXEL: (tags.SHORT, count),
            tags.PLANAR_CONFIGURATION: (tags.SHORT, 2 if self.planar else 1),
            tags.SAMPLE_FORMAT: (tags.SHORT, [{"u": 1, "i": 2, "f": 3}[self.dtype.kind]] * count),
        }
        if self.predictor != codecs.NO_PREDICTION:
            fields[tags.PREDICTOR] = tags.SHORT, self.predictor
        extra = count - (3 if photo else 1)
        if extra > 0:
            fields[tags.EXTRA_SAMPLES] = tags.SHORT, [0] * extra
        if palette and legend is not None:
            fields[tags.COLOUR_MAP] = tags.SHORT, legend.table().T.astype(np.uint16).ravel() * 257
        if self.nodata is not None or (self.dtype.kind == "f" and self._any_masked):
            fields[tags.NODATA] = tags.ASCII, "nan" if self.nodata is None else number_text(self.nodata)
        if number == 0:
            fields[tags.IMAGE_DESCRIPTION] = tags.ASCII, write_description(self.bands)
            fields |= frame_tags(self.frame)
        return fields

    def _mask_fields(self, number: int) -> Fields:
        kind = tags.MASK | (tags.REDUCED if number else 0)
        return self._shared_fields(self.levels[number], kind) | {
            tags.BITS_PER_SAMPLE: (tags.SHORT, 1),
            tags.COMPRESSION: (tags.SHORT, codecs.CODECS["deflate"].code),
            tags.PHOTOMETRIC: (tags.SHORT, tags.TRANSPARENCY_MASK),
            tags.SAMPLES_PER_PIXEL: (tags.SHORT, 1),
            tags.PLANAR_CONFIGURATION: (tags.SHORT, 1),
        }

    def _shared_fields(self, level: Level, kind: int) -> Fields:
        fields: Fields = {
            tags.IMAGE_WIDTH: (tags.LONG, level.width),
            tags.IMAGE_LENGTH: (tags.LONG, level.height),
            tags.TILE_WIDTH: (tags.SHORT, self.options.tile),
            tags.TILE_LENGTH: (tags.SHORT, self.options.tile),
        }
        return fields | {tags.NEW_SUBFILE_TYPE: (tags.LONG, kind)} if kind else fields


def number_text(value: Any) -> str:
    """A nodata value as tag 42113 holds it."""
    if isinstance(value, float) and math.isnan(value):
        return "nan"
    return f"{int(value)}" if float(value).is_integer() else repr(float(value))
