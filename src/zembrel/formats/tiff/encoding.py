"""How the cells of a GeoTIFF are encoded: tiles or strips of them, and masks."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import RefusedError
from zembrel.formats.tiff import codecs, pictures, tags
from zembrel.formats.tiff.assemble import Fields
from zembrel.formats.tiff.packing import packed
from zembrel.raster.model import Band, Cells, Mask, has_alpha, is_photo, shared_type

TILE = 512
CHUNKY_BANDS = 4  # more are stored plane by plane, so that one band can be read alone
WEBP_LONGEST, JPEG_LONGEST = 16_383, 65_535


class Options(NamedTuple):
    """What can be chosen about a GeoTIFF."""

    codec: str = "deflate"
    level: float | None = 6
    tile: int = TILE
    overviews: str = "auto"  # or no, or a method, or methods of bands: mean,qa:mode
    strip: int = 0  # rows of a strip; 0: tiles


@dataclass(frozen=True)
class Encoding:
    """Cells of `bands` as `options` want them. Raises RefusedError for what the codec cannot hold."""

    bands: tuple[Band, ...]
    options: Options
    byte_order: str = "<"

    def __post_init__(self) -> None:
        codec = self.options.codec
        fault = None
        if codec in ("jpeg", "webp") and self.dtype != np.uint8:
            fault = f"it holds bytes, these are {self.dtype.name}"
        elif codec == "webp" and not (self.photo and len(self.bands) == 3):
            fault = "it holds red, green and blue, all three and nothing else"
        elif codec == "lerc" and self.dtype.kind in "iu" and self.dtype.itemsize == 8:
            fault = f"it holds integers of up to 32 bits, these are {self.dtype.name}"
        elif not self.exact and self.categorical:
            fault = "it changes values a little, and these are codes of classes"
        if fault:
            raise RefusedError(f"{codec} cannot hold these cells", fault, "use --compress deflate or zstd")

    @cached_property
    def dtype(self) -> np.dtype[Any]:
        return shared_type(self.bands)

    @cached_property
    def categorical(self) -> bool:
        return any(band.categorical for band in self.bands)

    @property
    def photo(self) -> bool:
        return is_photo(self.bands)

    @property
    def planar(self) -> bool:
        """Whether bands are stored apart: many are, and those JPEG would take for colours."""
        count = len(self.bands)
        return count > CHUNKY_BANDS or (self.options.codec == "jpeg" and count > 1 and not self._luma)

    @property
    def _luma(self) -> bool:
        return self.options.codec == "jpeg" and self.photo and len(self.bands) == 3

    @cached_property
    def predictor(self) -> int:
        return codecs.predictor_for(self.options.codec, self.dtype, self.categorical)

    @property
    def exact(self) -> bool:
        """Whether every value comes back as it was."""
        codec, level = self.options.codec, self.options.level
        return codec in codecs.CODECS or (codec in ("lerc", "webp") and not level)

    @cached_property
    def nodata(self) -> float | int | None:
        """The value that stands for invalid cells; none where values are not kept exactly."""
        return next((b.nodata for b in self.bands if b.nodata is not None), None) if self.exact else None

    @property
    def alpha(self) -> bool:
        """Whether the last band says how opaque cells are, and so which of them are invalid."""
        return has_alpha(self.bands)

    @property
    def needs_mask(self) -> bool:
        """Whether a value cannot say what is invalid. (Many readers do not know what LERC knows.)"""
        told_by_nan = self.dtype.kind == "f" and self.options.codec != "lerc"
        return self.nodata is None and not told_by_nan and not self.alpha

    def filled(self, cells: Cells, valid: Mask | None) -> Cells:
        """Invalid cells as the file holds them: nodata, NaN, or 0 under the mask."""
        if valid is None:
            return cells
        value = self.nodata if self.nodata is not None else (math.nan if self.dtype.kind == "f" else 0)
        filled: Cells = np.where(valid, cells, np.asarray(value, self.dtype))
        if self.alpha:
            filled[-1] = cells[-1]
        return filled

    def segment(self, cells: Cells, shape: tuple[int, int]) -> bytes:
        """One segment of `shape` rows and columns, whose corner `cells` (samples, rows, columns) fill."""

        name, level = self.options.codec, self.options.level
        differences = self.predictor == codecs.HORIZONTAL
        tile = packed(cells, shape, differences=differences, drawn_out=not self.exact)
        if name in codecs.CODECS:
            whole = None if level is None else int(level)
            return codecs.encode(name, whole, tile, self.predictor, self.byte_order)
        return pictures.encode(name, np.ascontiguousarray(tile), level, self._luma)

    def mask_segment(self, valid: Mask, shape: tuple[int, int]) -> bytes:
        """One segment of the mask: bits, 1 where valid."""
        tile = np.zeros(shape, bool)
        tile[: valid.shape[0], : valid.shape[1]] = valid
        return codecs.CODECS["deflate"].encode(np.packbits(tile, axis=1), 6)

    @property
    def code(self) -> int:
        """TIFF's number of the compression."""
        name = self.options.codec
        return codecs.CODECS[name].code if name in codecs.CODECS else pictures.WRITTEN[name]

    def fields(self) -> Fields:
        """The fields of a directory that say how its cells are encoded and what they are."""
        count, size = len(self.bands), self.dtype.itemsize
        legend = self.bands[0].legend
        palette = legend is not None and self.dtype == np.uint8 and count == 1
        photometric = tags.PALETTE if palette else tags.RGB if self.photo else tags.BLACK_IS_ZERO
        fields: Fields = {
            tags.BITS_PER_SAMPLE: (tags.SHORT, [8 * size] * count),
            tags.COMPRESSION: (tags.SHORT, self.code),
            tags.PHOTOMETRIC: (tags.SHORT, tags.YCBCR if self._luma else photometric),
            tags.SAMPLES_PER_PIXEL: (tags.SHORT, count),
            tags.PLANAR_CONFIGURATION: (tags.SHORT, 2 if self.planar else 1),
            tags.SAMPLE_FORMAT: (tags.SHORT, [{"u": 1, "i": 2, "f": 3}[self.dtype.kind]] * count),
        }
        if self._luma:
            fields[tags.YCBCR_SUBSAMPLING] = tags.SHORT, [2, 2]
        if self.options.codec == "lerc":
            fields[tags.LERC_PARAMETERS] = tags.LONG, [4, pictures.LERC_PLAIN]
        if self.predictor != codecs.NO_PREDICTION:
            fields[tags.PREDICTOR] = tags.SHORT, self.predictor
        extra = count - (3 if self.photo else 1)
        if extra > 0:
            unassociated = [2] if self.alpha else [0]
            fields[tags.EXTRA_SAMPLES] = tags.SHORT, [0] * (extra - 1) + unassociated
        if palette and legend is not None:
            fields[tags.COLOUR_MAP] = tags.SHORT, legend.table().T.astype(np.uint16).ravel() * 257
        return fields


def mask_fields() -> Fields:
    """The same of a mask."""
    return {
        tags.BITS_PER_SAMPLE: (tags.SHORT, 1),
        tags.COMPRESSION: (tags.SHORT, codecs.CODECS["deflate"].code),
        tags.PHOTOMETRIC: (tags.SHORT, tags.TRANSPARENCY_MASK),
        tags.SAMPLES_PER_PIXEL: (tags.SHORT, 1),
        tags.PLANAR_CONFIGURATION: (tags.SHORT, 1),
    }


def number_text(value: Any) -> str:
    """A nodata value as tag 42113 holds it."""
    if isinstance(value, float) and math.isnan(value):
        return "nan"
    return f"{int(value)}" if float(value).is_integer() else repr(float(value))
