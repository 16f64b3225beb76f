"""Writing GeoTIFF: tiles and overviews as they come, put together as one file at the end.

Blocks are encoded where they were computed (`tiling`); the smaller overviews are built from strips, so memory
does not grow with the image.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO, NamedTuple

import numpy as np

from zembrel.formats.sink import Sink
from zembrel.formats.tiff import tags
from zembrel.formats.tiff.assemble import Fields, Image, Integers, write_tiff
from zembrel.formats.tiff.description import write_description
from zembrel.formats.tiff.encoding import Options, mask_fields, number_text
from zembrel.formats.tiff.geokeys import frame_tags
from zembrel.formats.tiff.tiling import EncodedTiles, Level, Tile, TileEncoder, tile_encoder
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.provenance import document
from zembrel.raster.model import Band
from zembrel.raster.pyramid import Pyramid


class Tables(NamedTuple):
    """Where the segments of a level, and of its mask, lie in the spool, and how many bytes each has."""

    offsets: Integers
    counts: Integers
    mask_offsets: Integers
    mask_counts: Integers

    @classmethod
    def of(cls, level: Level) -> Tables:
        """Of a level of which nothing is stored yet."""
        return cls(
            *np.zeros((2, level.per_plane * level.planes), np.int64),
            *np.zeros((2, level.per_plane), np.int64),
        )


def tiff_sink(path: Path, frame: Frame, bands: tuple[Band, ...], options: Options) -> Sink:
    """A sink for one GeoTIFF. Raises RefusedError for what the codec cannot hold."""
    encoder = tile_encoder(frame, bands, options)
    how = options.codec, f"overviews {len(encoder.levels) - 1}"
    return Sink(encoder.blocks(), encoder, TiffStore(path, frame, bands, encoder), how)


class TiffStore:
    """One GeoTIFF at `path`; spools are kept in the folder of `path`.

    before: images whose segments stand elsewhere, with which the overviews alone are put together.
    """

    def __init__(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], encoder: TileEncoder,
        before: Sequence[Image] = (),
    ) -> None:  # fmt: skip
        self.path, self.frame, self.bands, self.encoder = path, frame, bands, encoder
        self.before = before
        self._provenance = document()
        self.encoding, self.levels = encoder.encoding, encoder.levels
        self.tables = [Tables.of(level) for level in self.levels]
        sizes = [(level.height, level.width) for level in self.levels]
        self._pyramid = Pyramid(sizes, self.encoding.options.tile, encoder.halved)
        self._any_masked = False
        self._spool_path = path.with_name(path.name + ".tiles")
        self._spool: BinaryIO = self._spool_path.open("wb")
        self._spool_size = 0

    def append(self, key: Pane, encoded: EncodedTiles) -> None:
        self._any_masked |= encoded.masked
        self._store(encoded.tiles)
        if encoded.rest is not None:
            for number, strip in self._pyramid.take(2, encoded.rest):
                self._store(self.encoder.tiles(number, strip))

    def _store(self, tiles: Sequence[Tile]) -> None:
        for tile in tiles:
            table = self.tables[tile.level]
            offsets, counts = table[2:] if tile.is_mask else table[:2]
            offsets[tile.number], counts[tile.number] = self._spool_size, len(tile.data)
            self._spool.write(tile.data)
            self._spool_size += len(tile.data)

    @property
    def masked(self) -> bool:
        """Whether the file needs masks to say what is invalid."""
        return self._any_masked and self.encoding.needs_mask

    def images(self) -> list[Image]:
        """Directories and stored segments of all levels, each followed by its mask if there is one."""
        if self.masked:
            self._fill_masks()
        self._spool.close()
        images, tiled = [], self.encoder.tiled
        for number, table in enumerate(self.tables):
            images.append(Image(self._fields(number), self._spool_path, *table[:2], tiled))
            if self.masked:
                images.append(Image(self._mask_fields(number), self._spool_path, *table[2:], tiled))
        return images

    def finish(self) -> None:
        images = self.images()
        if self.before:
            images = [*self.before, *images[2 if self.masked else 1 :]]
        write_tiff(self.path, images, order=self.encoding.byte_order)
        self._spool_path.unlink()

    def abort(self) -> None:
        self._spool.close()

    def _fill_masks(self) -> None:
        """Masks of the segments that had none because all their cells are valid."""
        full: dict[tuple[int, int], bytes] = {}
        for number, (level, table) in enumerate(zip(self.levels, self.tables, strict=True)):
            for index in np.flatnonzero(table.mask_counts == 0):
                row, column = divmod(int(index), level.across)
                whole = Pane(0, 0, level.rows, level.columns).moved(row * level.rows, column * level.columns)
                part = level.pane.meet(whole)
                assert part is not None
                if part.shape not in full:
                    shape = whole.shape if self.encoder.tiled else part.shape
                    full[part.shape] = self.encoding.mask_segment(np.ones(part.shape, bool), shape)
                self._store([Tile(number, int(index), full[part.shape], True)])

    def _fields(self, number: int) -> Fields:
        fields = self._shared_fields(self.levels[number], tags.REDUCED if number else 0)
        fields |= self.encoding.fields()
        nodata = self.encoding.nodata
        if nodata is not None or (self.encoding.dtype.kind == "f" and self._any_masked):
            fields[tags.NODATA] = tags.ASCII, "nan" if nodata is None else number_text(nodata)
        if number == 0:
            fields[tags.IMAGE_DESCRIPTION] = tags.ASCII, write_description(self.bands, self._provenance)
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
        if self.encoder.tiled:
            fields |= {
                tags.TILE_WIDTH: (tags.SHORT, self.encoding.options.tile),
                tags.TILE_LENGTH: (tags.SHORT, self.encoding.options.tile),
            }
        else:
            fields[tags.ROWS_PER_STRIP] = tags.LONG, level.rows
        return fields | {tags.NEW_SUBFILE_TYPE: (tags.LONG, kind)} if kind else fields
