"""GeoTIFF as a Raster: a pane decodes only the segments and bands it needs."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from zembrel.errors import out_of_memory
from zembrel.formats.blockcache import block_cache
from zembrel.formats.tiff import colours, tags
from zembrel.formats.tiff.codecs import DECODE_ERRORS
from zembrel.formats.tiff.coding import check_ratio, decoded
from zembrel.formats.tiff.colours import Model
from zembrel.formats.tiff.directory import Directory, broken
from zembrel.formats.tiff.layout import SegmentLayout, read_layout
from zembrel.formats.tiff.longstrips import StripOnDisk, is_long, long_strips
from zembrel.formats.tiff.packing import placed
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.handles import ReadsAhead
from zembrel.raster.model import Band, Block, Cells, Mask, Raster
from zembrel.raster.views.nodata import both, nodata_mask


@dataclass(frozen=True, eq=False)
class TiffRaster:
    """One image of a TIFF, with its mask and its overviews if it has them."""

    directory: Directory
    layout: SegmentLayout
    frame: Frame
    all_bands: tuple[Band, ...]
    picked: tuple[int, ...]
    alpha: int | None = None
    mask: TiffRaster | None = None
    reduced: tuple[Directory, ...] = field(default=())
    reduced_masks: tuple[Directory, ...] = field(default=())
    model: Model | None = None  # of colours that are not stored as red, green and blue
    associated: bool = False  # colours are stored multiplied by alpha
    remarks: tuple[str, ...] = ()  # about where its place is from

    @cached_property
    def bands(self) -> tuple[Band, ...]:
        return tuple(self.all_bands[i] for i in self.picked)

    @property
    def block_shape(self) -> tuple[int, int]:
        """Rows and columns of the segments on disk."""
        return self.layout.rows, self.layout.columns

    def with_bands(self, picked: tuple[int, ...]) -> Raster:
        return replace(self, picked=tuple(self.picked[i] for i in picked))

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if a segment is missing, cut short or cannot be decoded."""
        own = [*self.picked] if self.model is None else list(range(self.layout.samples))
        wanted = own if self.alpha is None or self.alpha in own else [*own, self.alpha]
        cells = self._room(len(wanted), pane)
        holes = self._read(pane, wanted, cells)
        seen = None
        if self.alpha is not None:
            at = wanted.index(self.alpha)
            seen = cells[at] > 0
            if self.associated:
                colours.release(cells, at)
        if self.model is not None:
            shown = self.model.convert(cells[: self.model.samples])
            cells = np.concatenate([shown, cells[self.model.samples :]])[list(self.picked)]
        cells = cells[: len(self.picked)]
        valid = both(nodata_mask(cells, self.bands), seen)
        if self.mask is not None:
            valid = both(valid, self._masked(pane))
        valid = both(valid, holes)
        return Block(cells, None if valid is None or valid.all() else valid)

    def _room(self, samples: int, pane: Pane) -> Cells:
        """Space for cells. Raises ResourceError if there is not so much."""
        try:
            return np.empty((samples, *pane.shape), self.layout.dtype)
        except MemoryError as exc:
            raise out_of_memory(samples * pane.size * self.layout.dtype.itemsize) from exc

    def _masked(self, pane: Pane) -> Mask:
        """What the mask says: (rows, columns), or for each band if there is a mask of each."""
        assert self.mask is not None
        known: Mask = self.mask.cells(pane).cells > 0
        return known[list(self.picked)] if len(known) == len(self.all_bands) > 1 else known[0]

    def _read(self, pane: Pane, wanted: list[int], out: Cells) -> Mask | None:
        """Fill `out` (samples, rows, columns); returns where no segment was stored, if anywhere."""
        layout, present = self.layout, None
        self._look_ahead(pane, wanted)
        for row in range(pane.top // layout.rows, -(-pane.bottom // layout.rows)):
            for column in range(pane.left // layout.columns, -(-pane.right // layout.columns)):
                whole = layout.pane(row, column)
                part = whole.meet(pane)
                assert part is not None
                into, source = part.within(pane), part.within(whole)
                for index, plane, samples in self._planes(wanted):
                    segment = self._segment(row, column, plane)
                    if segment is None:
                        present = np.ones(pane.shape, bool) if present is None else present
                        present[into] = False
                        out[(index, *into)] = 0
                        continue
                    placed(segment[(samples, *source)], out[(index, *into)])
        return present

    def _look_ahead(self, pane: Pane, wanted: list[int]) -> None:
        """Fetch the segments of a remote file together, those that are not at hand."""
        place = self.directory.container.path
        if isinstance(place, ReadsAhead):
            indices = self._indices(pane, self._planes(wanted))
            place.ahead(self._extents([n for n in indices if self._key(n) not in block_cache]))

    def segments(self, pane: Pane) -> list[tuple[int, int]]:
        """Offset and bytes of the segments that a pane needs, its mask's included."""
        own = self._extents(self._indices(pane, self._planes(list(self.picked))))
        return own + (self.mask.segments(pane) if self.mask is not None else [])

    def _extents(self, indices: list[int]) -> list[tuple[int, int]]:
        layout = self.layout
        return [(int(layout.offsets[n]), int(layout.counts[n])) for n in indices]

    def _indices(self, pane: Pane, planes: list[tuple[Any, int, Any]]) -> list[int]:
        """Numbers of the segments that a pane meets."""
        layout = self.layout
        rows = range(pane.top // layout.rows, -(-pane.bottom // layout.rows))
        columns = range(pane.left // layout.columns, -(-pane.right // layout.columns))
        return [
            (plane * layout.down + row) * layout.across + column
            for _, plane, _ in planes for row in rows for column in columns
        ]  # fmt: skip

    def _key(self, index: int) -> tuple[Any, ...]:
        container = self.directory.container
        return container.path, container.stamp, self.directory.number, index

    def _planes(self, wanted: list[int]) -> list[tuple[Any, int, Any]]:
        """Which output layers come from which plane of segments and samples in it."""
        if self.layout.planar:
            return [(slice(n, n + 1), sample, slice(0, 1)) for n, sample in enumerate(wanted)]
        run = wanted == list(range(wanted[0], wanted[0] + len(wanted)))
        return [(slice(None), 0, slice(wanted[0], wanted[0] + len(wanted)) if run else wanted)]

    def _segment(self, row: int, column: int, plane: int) -> Cells | StripOnDisk | None:
        layout = self.layout
        index = (plane * layout.down + row) * layout.across + column
        if layout.counts[index] == 0:
            return None
        container = self.directory.container
        key = self._key(index)
        if not layout.tiled and is_long(layout.coding, layout.shape(row)):
            place = int(layout.offsets[index]), int(layout.counts[index])
            with self._decoding(row, index):
                return long_strips.get(key, container, place, layout.coding, layout.shape(row))
        return block_cache.get(key, lambda: self._decode(row, index))

    def _decode(self, row: int, index: int) -> Cells:
        layout, container = self.layout, self.directory.container
        data = container.read(int(layout.offsets[index]), int(layout.counts[index]), f"segment {index}")
        shape = layout.shape(row)
        with self._decoding(row, index):
            check_ratio(layout.coding, len(data), shape)
            return self._in_shape(data, shape)

    @contextmanager
    def _decoding(self, row: int, index: int) -> Iterator[None]:
        """What a segment does not hold, or the memory, is an error about it."""
        try:
            yield
        except MemoryError as exc:
            raise out_of_memory(int(np.prod(self.layout.shape(row))) * self.layout.dtype.itemsize) from exc
        except DECODE_ERRORS as exc:
            raise broken(self.directory.container.path, f"segment {index} does not decode: {exc}") from exc

    def _in_shape(self, data: bytes, shape: tuple[int, int, int]) -> Cells:
        """Cells of a segment; a last strip may hold as many rows as the others, beyond the image."""
        coding, rows = self.layout.coding, self.layout.rows
        try:
            return decoded(coding, data, shape)
        except DECODE_ERRORS:
            if self.layout.tiled or shape[0] == rows:
                raise
            return decoded(coding, data, (rows, *shape[1:]))[:, : shape[0]]

    def coarser(self, step: float) -> Raster:
        """The coarsest overview whose cells are at most `step` times as large as these."""
        best: TiffRaster = self
        for directory in self.reduced:
            layout = read_layout(directory)
            ratio = self.layout.width / layout.width
            if (
                ratio <= step * 1.01
                and layout.width < best.layout.width
                and layout.samples == self.layout.samples
            ):
                frame = _scaled(self.frame, layout)
                best = replace(self, directory=directory, layout=layout, frame=frame, reduced=(), mask=None)
        if best is self or self.mask is None:
            return best
        return replace(best, mask=self._mask_of(best))

    def _mask_of(self, reduced: TiffRaster) -> TiffRaster | None:
        for directory in self.reduced_masks:
            size = directory.number_of(tags.IMAGE_WIDTH), directory.number_of(tags.IMAGE_LENGTH)
            if size == (reduced.layout.width, reduced.layout.height):
                return mask_raster(directory, reduced.frame)
        return None


def _scaled(frame: Frame, layout: SegmentLayout) -> Frame:
    """The frame of a reduced image: the same outline in fewer cells."""
    a, across, down = frame.corners, frame.columns / layout.width, frame.rows / layout.height
    affine = Affine(a.x0, a.y0, a.x_col * across, a.y_row * down, a.x_row * down, a.y_col * across)
    return Frame(frame.crs, affine, layout.width, layout.height)


def mask_raster(directory: Directory, frame: Frame) -> TiffRaster:
    """A mask, or a mask of each band, on the frame of what it masks."""
    layout = read_layout(directory)
    bands = tuple(Band(f"mask{n + 1}", layout.dtype.name) for n in range(layout.samples))
    return TiffRaster(directory, layout, frame, bands, tuple(range(layout.samples)))
