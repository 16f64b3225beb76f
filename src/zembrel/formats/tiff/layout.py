"""How the cells of one TIFF image are cut into segments (strips or tiles), and where those lie."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import tags
from zembrel.formats.tiff.coding import Coding, read_coding
from zembrel.formats.tiff.directory import Directory, broken
from zembrel.grid.pane import Pane

MOST_CELLS_A_SIDE = 2**31 - 1
MOST_SEGMENT_BYTES = 2**31
_RAW_STRIP_BYTES = 262_144  # uncompressed strips are read in pieces of about this size


@dataclass(frozen=True, eq=False)
class SegmentLayout:
    """Segments of `rows` x `columns` cells cover the image row by row, plane after plane."""

    width: int
    height: int
    samples: int
    coding: Coding
    planar: bool
    rows: int
    columns: int
    offsets: npt.NDArray[np.int64]
    counts: npt.NDArray[np.int64]
    tiled: bool

    @property
    def dtype(self) -> np.dtype[Any]:
        """Of the cells once decoded, in native byte order."""
        return np.dtype(self.coding.cell_type)

    @property
    def compression(self) -> str:
        return self.coding.compression

    @property
    def across(self) -> int:
        return -(-self.width // self.columns)

    @property
    def down(self) -> int:
        return -(-self.height // self.rows)

    @property
    def samples_each(self) -> int:
        """Samples of a cell that stand together in a segment."""
        return 1 if self.planar else self.samples

    def pane(self, row: int, column: int) -> Pane:
        """The cells of the image that segment (row, column) holds."""
        top, left = row * self.rows, column * self.columns
        return Pane(top, left, min(top + self.rows, self.height), min(left + self.columns, self.width))

    def shape(self, row: int) -> tuple[int, int, int]:
        """Rows, columns and samples stored in a segment: tiles are always whole, strips are not."""
        rows = self.rows if self.tiled else min(self.rows, self.height - row * self.rows)
        return rows, self.columns, self.samples_each


def read_layout(directory: Directory) -> SegmentLayout:
    """The layout of one image. Raises InputError for what is absurd, broken or not supported."""
    path = directory.container.path
    width, height = directory.number_of(tags.IMAGE_WIDTH), directory.number_of(tags.IMAGE_LENGTH)
    samples = directory.number_of(tags.SAMPLES_PER_PIXEL, 1)
    if not (0 < width <= MOST_CELLS_A_SIDE and 0 < height <= MOST_CELLS_A_SIDE and 0 < samples <= 65_535):
        raise broken(path, f"it claims {width:,} x {height:,} cells of {samples:,} samples")
    planar = directory.number_of(tags.PLANAR_CONFIGURATION, 1) == 2 and samples > 1
    coding = read_coding(directory, planar)
    tiled = tags.TILE_WIDTH in directory
    if tiled:
        columns, rows = directory.number_of(tags.TILE_WIDTH), directory.number_of(tags.TILE_LENGTH)
        offsets, counts = directory.values(tags.TILE_OFFSETS), directory.values(tags.TILE_BYTE_COUNTS)
    else:
        columns, rows = width, min(directory.number_of(tags.ROWS_PER_STRIP, height), height)
        offsets, counts = directory.values(tags.STRIP_OFFSETS), directory.values(tags.STRIP_BYTE_COUNTS)
    size = columns * rows * coding.samples * coding.dtype.itemsize
    if columns < 1 or rows < 1 or size > MOST_SEGMENT_BYTES:
        raise broken(path, f"it claims segments of {columns:,} x {rows:,} cells")
    layout = SegmentLayout(
        width, height, samples, coding, planar, rows, columns,
        offsets.astype(np.int64), counts.astype(np.int64), tiled,
    )  # fmt: skip
    layout = _with(layout, counts=_plausible(layout, directory.container.size))
    due = layout.across * layout.down * (samples if planar else 1)
    if not tiled and len(counts) == 0 and layout.compression == "none" and len(offsets) == 1 == due:
        layout = _with(layout, offsets=layout.offsets, counts=np.array([size], np.int64))
    if len(layout.offsets) < due or len(layout.counts) < due:
        raise broken(path, f"{due:,} segments are due, {len(layout.offsets):,} are listed")
    layout = _with(layout, offsets=layout.offsets[:due], counts=layout.counts[:due])
    return _cut_raw_strips(layout)


def _plausible(layout: SegmentLayout, size: int) -> npt.NDArray[np.int64]:
    """Bytes of segments; of uncompressed ones that claim to go past the end of the file, what cells need."""
    past = layout.offsets[: len(layout.counts)] + layout.counts[: len(layout.offsets)] > size
    if layout.compression != "none" or not past.any() or layout.coding.subsampling != (1, 1):
        return layout.counts
    rows = np.arange(len(past)) // layout.across % max(layout.down, 1)
    line = layout.columns * layout.samples_each * layout.coding.bits // 8
    due = np.array([layout.shape(int(row))[0] for row in rows.tolist()], np.int64) * line
    return np.where(past, np.minimum(layout.counts[: len(past)], due), layout.counts[: len(past)])


def _cut_raw_strips(layout: SegmentLayout) -> SegmentLayout:
    """Uncompressed strips in smaller pieces, so that a window does not read a whole plane."""
    coding = layout.coding
    line = layout.columns * layout.samples_each * coding.bits // 8
    rows = max(1, _RAW_STRIP_BYTES // max(line, 1))
    plain = coding.compression == "none" and coding.bits % 8 == 0 and coding.subsampling == (1, 1)
    if layout.tiled or not plain or rows >= layout.rows:
        return layout
    tops = np.arange(0, layout.height, rows)
    if layout.down > 1 and layout.rows % rows:
        rows = next(n for n in range(rows, 0, -1) if layout.rows % n == 0)
        tops = np.arange(0, layout.height, rows)
    strip, into = tops // layout.rows, tops % layout.rows
    lengths = np.minimum(rows, layout.height - tops) * line
    planes = layout.samples if layout.planar else 1
    starts = layout.offsets.reshape(planes, -1)[:, strip] + into * line
    return _with(layout, rows=rows, offsets=starts.ravel(), counts=np.tile(lengths, planes))


def _with(layout: SegmentLayout, **changes: Any) -> SegmentLayout:
    return SegmentLayout(**{**layout.__dict__, **changes})
