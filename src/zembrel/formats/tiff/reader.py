"""GeoTIFF as a Raster: a pane decodes only the segments and bands it needs."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.formats.blockcache import block_cache
from zembrel.formats.tiff import codecs, tags
from zembrel.formats.tiff.description import read_description
from zembrel.formats.tiff.directory import Directory, broken, read_directories
from zembrel.formats.tiff.geokeys import read_frame
from zembrel.formats.tiff.layout import Layout, read_layout
from zembrel.formats.tiff.packing import unpacked
from zembrel.formats.worldfile import georeferenced
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Entry, Legend
from zembrel.raster.model import Band, Block, Cells, Mask, Raster
from zembrel.raster.views.nodata import both, nodata_mask

_ALPHA = (1, 2)  # values of ExtraSamples


@dataclass(frozen=True, eq=False)
class TiffRaster:
    """One image of a TIFF, with its mask and its overviews if it has them."""

    directory: Directory
    layout: Layout
    frame: Frame
    all_bands: tuple[Band, ...]
    picked: tuple[int, ...]
    alpha: int | None = None
    mask: TiffRaster | None = None
    reduced: tuple[Directory, ...] = field(default=())

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
        wanted = [*self.picked] if self.alpha is None else [*self.picked, self.alpha]
        cells = np.empty((len(wanted), *pane.shape), self.layout.dtype.newbyteorder("="))
        holes = self._read(pane, wanted, cells)
        valid = nodata_mask(cells[: len(self.picked)], self.bands)
        if self.alpha is not None:
            valid = both(valid, cells[-1] > 0)
            cells = cells[:-1]
        if self.mask is not None:
            valid = both(valid, self.mask.cells(pane).cells[0] > 0)
        valid = both(valid, holes)
        return Block(cells, None if valid is None or valid.all() else valid)

    def _read(self, pane: Pane, wanted: list[int], out: Cells) -> Mask | None:
        """Fill `out` (samples, rows, columns); returns where no segment was stored, if anywhere."""
        layout, present = self.layout, None
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
                    out[(index, *into)] = segment[(samples, *source)]
        return present

    def _planes(self, wanted: list[int]) -> list[tuple[Any, int, Any]]:
        """Which output layers come from which plane of segments and samples in it."""
        if self.layout.planar:
            return [(slice(n, n + 1), sample, slice(0, 1)) for n, sample in enumerate(wanted)]
        run = wanted == list(range(wanted[0], wanted[0] + len(wanted)))
        return [(slice(None), 0, slice(wanted[0], wanted[0] + len(wanted)) if run else wanted)]

    def _segment(self, row: int, column: int, plane: int) -> Cells | None:
        layout = self.layout
        index = (plane * layout.down + row) * layout.across + column
        if layout.counts[index] == 0:
            return None
        container = self.directory.container
        key = container.path, container.stamp, self.directory.number, index
        return block_cache.get(key, lambda: self._decode(row, index))

    def _decode(self, row: int, index: int) -> Cells:
        layout, container = self.layout, self.directory.container
        data = container.read(int(layout.offsets[index]), int(layout.counts[index]), f"segment {index}")
        shape = layout.shape(row)
        try:
            if layout.bits == 1:
                return _unpack_bits(codecs.CODECS[layout.compression].decode, data, shape)
            return codecs.decode(layout.compression, data, shape, layout.dtype, layout.predictor)
        except codecs.DECODE_ERRORS as exc:
            raise broken(container.path, f"segment {index} does not decode: {exc}") from exc

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
        for directory in read_directories(self.directory.container.path):
            kind = directory.number_of(tags.NEW_SUBFILE_TYPE, 0)
            size = directory.number_of(tags.IMAGE_WIDTH), directory.number_of(tags.IMAGE_LENGTH)
            if kind == tags.REDUCED | tags.MASK and size == (reduced.layout.width, reduced.layout.height):
                return _mask_raster(directory, reduced.frame)
        return None


def _unpack_bits(decode: Any, data: bytes, shape: tuple[int, int, int]) -> Cells:
    rows, columns, samples = shape
    line = -(-columns * samples // 8)
    raw = decode(data, rows * line)
    if len(raw) < rows * line:
        raise ValueError(f"{len(raw):,} bytes where {rows * line:,} are due")
    bits = np.unpackbits(np.frombuffer(raw, np.uint8, rows * line).reshape(rows, line), axis=1)
    return unpacked(bits[:, : columns * samples].reshape(rows, columns, samples), differences=False)


def _scaled(frame: Frame, layout: Layout) -> Frame:
    """The frame of a reduced image: the same outline in fewer cells."""
    a, across, down = frame.corners, frame.columns / layout.width, frame.rows / layout.height
    affine = Affine(a.x0, a.y0, a.x_col * across, a.y_row * down, a.x_row * down, a.y_col * across)
    return Frame(frame.crs, affine, layout.width, layout.height)


def _mask_raster(directory: Directory, frame: Frame) -> TiffRaster:
    return TiffRaster(directory, read_layout(directory), frame, (Band("mask", "uint8"),), (0,))


def layers_of(path: Path) -> list[str]:
    """Names of the images of a TIFF that are not masks or reduced versions: `1`, `2` ..."""
    return [str(n) for n, _ in enumerate(_main_directories(read_directories(path)), 1)]


def _main_directories(directories: list[Directory]) -> list[Directory]:
    flags = tags.REDUCED | tags.MASK
    return [d for d in directories if not d.number_of(tags.NEW_SUBFILE_TYPE, 0) & flags] or directories[:1]


def open_tiff(path: Path, layer: str | None = None) -> TiffRaster:
    """The image `layer` (default: the first) of the TIFF at `path`. Raises InputError."""
    directories = read_directories(path)
    main = _main_directories(directories)
    if layer is not None and layer not in [str(n) for n in range(1, len(main) + 1)]:
        raise InputError(
            f"{path} has no layer {layer!r}",
            f"it holds {len(main)} image(s)",
            f"choose from 1 to {len(main)}",
        )
    directory = main[int(layer or 1) - 1]
    following = next((d.number for d in main if d.number > directory.number), len(directories))
    family = directories[directory.number + 1 : following]
    layout = read_layout(directory)
    frame = read_frame(directory, layout.width, layout.height)
    frame = frame or georeferenced(path, layout.width, layout.height)
    bands, alpha = _bands(directory, layout)
    kinds = [(d.number_of(tags.NEW_SUBFILE_TYPE, 0), d) for d in family]
    mask = next(
        (d for kind, d in kinds if kind & ~tags.REDUCED == tags.MASK and not kind & tags.REDUCED), None
    )
    reduced = tuple(d for kind, d in kinds if kind == tags.REDUCED)
    return TiffRaster(
        directory, layout, frame, bands, tuple(i for i in range(len(bands)) if i != alpha), alpha,
        _mask_raster(mask, frame) if mask is not None else None, reduced,
    )  # fmt: skip


def _bands(directory: Directory, layout: Layout) -> tuple[tuple[Band, ...], int | None]:
    """All samples as bands, and which of them is alpha."""
    photometric = directory.number_of(tags.PHOTOMETRIC, 1)
    extra = directory.values(tags.EXTRA_SAMPLES).tolist()
    first_extra = layout.samples - len(extra)
    alpha = next(
        (first_extra + n for n, kind in enumerate(extra) if kind in _ALPHA and first_extra + n > 0), None
    )
    names = ["red", "green", "blue"] if photometric == tags.RGB and layout.samples >= 3 else []
    kind = layout.dtype.newbyteorder("=").name
    nodata = _nodata(directory, layout)
    legend = _palette(directory) if photometric == tags.PALETTE else None
    bands = [
        Band(
            names[n] if n < len(names) else f"band{n + 1}",
            kind,
            nodata,
            colour=names[n] if n < len(names) else "",
            legend=legend if n == 0 else None,
        )
        for n in range(layout.samples)
    ]
    return read_description(directory.text(tags.IMAGE_DESCRIPTION), tuple(bands)), alpha


def _nodata(directory: Directory, layout: Layout) -> float | int | None:
    text = directory.text(tags.NODATA).strip()
    try:
        value = float(text)
    except ValueError:
        return None
    if layout.dtype.kind == "f":
        return float(np.dtype(layout.dtype.newbyteorder("=")).type(value))
    if not value.is_integer():
        return None
    number, limits = int(text) if text.lstrip("+-").isdigit() else int(value), np.iinfo(layout.dtype)
    return number if limits.min <= number <= limits.max else None


def _palette(directory: Directory) -> Legend | None:
    values = directory.values(tags.COLOUR_MAP)
    if len(values) == 0 or len(values) % 3:
        return None
    shift = 8 if values.max(initial=0) > 255 else 0
    colours = (values.reshape(3, -1).T >> shift).tolist()
    used = max((n for n, colour in enumerate(colours) if any(colour)), default=0)
    return Legend.of(Entry(n, "", (r, g, b)) for n, (r, g, b) in enumerate(colours[: used + 1]))
