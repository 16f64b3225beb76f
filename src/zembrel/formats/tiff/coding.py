"""How the segments of one TIFF image are coded, and the bytes of one as cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import imagecodecs
import numpy as np

from zembrel.errors import InputError
from zembrel.formats.tiff import codecs, colours, pictures, tags
from zembrel.formats.tiff.directory import Directory, broken
from zembrel.formats.tiff.packing import unpacked
from zembrel.raster.model import Cells

_KINDS = {1: "u", 2: "i", 3: "f", 4: "u"}
_WHOLE_BYTES = {"u1", "u2", "u4", "u8", "i1", "i2", "i4", "i8", "f2", "f4", "f8"}
_COMPLEX = (5, 6)  # sample formats
_JPEG_SPACES = {tags.YCBCR: ("YCBCR", "RGB"), tags.RGB: ("RGB", "RGB"), tags.CMYK: ("CMYK", "CMYK")}
_BY_SAMPLES: dict[int, str | None] = {1: "GRAYSCALE", 3: "RGB", 4: "CMYK"}
# How many bytes one can at most stand for: RFC 1951 (258 bytes from 2 bits), TIFF 6.0, sections 9 and 13.
_MOST_RATIO = {"none": 4, "deflate": 1040, "packbits": 65, "lzw": 4096}
_MOST_PACKED_BITS = 32
_INVERTED_BITS = 8  # images of so few bits whose 0 is white are pictures


@dataclass(frozen=True)
class Coding:
    """Compression, cell type and what else is needed to decode a segment."""

    compression: str
    dtype: np.dtype[Any]  # of the cells as the file holds them, byte order included
    bits: int
    predictor: int = codecs.NO_PREDICTION
    photometric: int = tags.BLACK_IS_ZERO
    samples: int = 1  # that stand together
    backwards: bool = False  # bits of a byte from the lowest to the highest
    inverted: bool = False  # 0 is white
    tables: bytes = b""
    subsampling: tuple[int, int] = (1, 1)
    packing: int = 0  # options of CCITT group 3; what LERC data are compressed with
    hole: float | None = None  # nodata, for LERC data that tell themselves what is not there

    @property
    def cell_type(self) -> str:
        """NumPy name of the cells' type: that of the file, short floats as 32 bits."""
        if self.dtype.kind == "f":
            return "float64" if self.bits == 64 else "float32"
        return self.dtype.newbyteorder("=").name

    @property
    def shown(self) -> int:
        """The photometric interpretation of what `decoded` returns."""
        converted = self.compression == "jpeg" and self.photometric == tags.YCBCR and self.samples == 3
        return tags.RGB if converted or self.compression == "webp" else self.photometric


def read_coding(directory: Directory, planar: bool) -> Coding:
    """Raises InputError for what is broken or not supported."""
    path = directory.container.path
    samples = directory.number_of(tags.SAMPLES_PER_PIXEL, 1)
    dtype, bits = _cell_type(directory)
    photometric = directory.number_of(tags.PHOTOMETRIC, tags.BLACK_IS_ZERO)
    predictor = directory.number_of(tags.PREDICTOR, 1)
    if predictor not in (1, 2, 3) or (predictor == 3 and dtype.kind != "f") or (predictor > 1 and bits % 8):
        raise broken(path, f"predictor {predictor} is not defined for {bits}-bit {dtype.name} cells")
    nodata = _number(directory.text(tags.NODATA))
    few = dtype.kind == "u" and bits <= _INVERTED_BITS and nodata is None
    lerc = directory.values(tags.LERC_PARAMETERS)
    compression = _compression(directory)
    sampling = directory.values(tags.YCBCR_SUBSAMPLING).tolist() or [2, 2]
    subsampled = photometric == tags.YCBCR and not planar and compression in codecs.CODECS
    if subsampled and not all(step in (1, 2, 4) for step in sampling[:2]):
        raise broken(path, f"its colours are sampled every {sampling} cells")
    return Coding(
        compression, dtype, bits, predictor, photometric,
        samples=1 if planar else samples,
        backwards=directory.number_of(tags.FILL_ORDER, 1) == 2,
        inverted=photometric == tags.WHITE_IS_ZERO and few,
        tables=directory.values(tags.JPEG_TABLES).tobytes(),
        subsampling=(sampling[0], sampling[1]) if subsampled and len(sampling) > 1 else (1, 1),
        packing=int(lerc[1]) if len(lerc) > 1 else directory.number_of(tags.T4_OPTIONS, 0),
        hole=nodata,
    )  # fmt: skip


def _cell_type(directory: Directory) -> tuple[np.dtype[Any], int]:
    samples = directory.number_of(tags.SAMPLES_PER_PIXEL, 1)  # values beyond are nobody's
    bits = {int(b) for b in directory.values(tags.BITS_PER_SAMPLE)[:samples]} or {1}
    formats = {int(f) for f in directory.values(tags.SAMPLE_FORMAT)[:samples]} or {1}
    path, each = directory.container.path, min(bits)
    kind = _KINDS.get(min(formats)) if len(formats) == 1 else None
    if kind is None and formats & set(_COMPLEX):
        raise InputError(
            f"{path} has complex cells",
            "a value of two parts has no order, colour or mean that maps could show",
            "convert it to magnitude, or to one file for each part, where it was made",
        )
    code = f"{kind}{each // 8}"
    if len(bits) == 1 and each % 8 == 0 and code in _WHOLE_BYTES:
        return np.dtype(directory.container.order + code), each
    if len(bits) == 1 and kind == "f" and each == 24:
        return np.dtype(directory.container.order + "f4"), each
    if len(bits) == 1 and kind == "u" and 0 < each <= _MOST_PACKED_BITS:
        return np.dtype("u1" if each <= 8 else "u2" if each <= 16 else "u4"), each
    raise InputError(
        f"{path} has cells of {sorted(bits)} bits, sample format {sorted(formats)}",
        "Zembrel reads integers of 1 to 32 and of 64 bits and floats of 16, 24, 32 and 64",
        "convert the file where it was made",
    )


def _compression(directory: Directory) -> str:
    code = directory.number_of(tags.COMPRESSION, 1)
    known = codecs.BY_CODE | pictures.CODES
    if code not in known:
        raise InputError(
            f"{directory.container.path} is compressed by scheme {code}",
            "Zembrel decodes " + ", ".join(sorted(set(known.values()))),
            "have it saved with one of these",
        )
    return known[code]


def _number(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None


def check_ratio(coding: Coding, count: int, shape: tuple[int, int, int]) -> None:
    """Raise ValueError if `count` bytes cannot hold a segment of `shape`, before room is made for it."""
    most = _MOST_RATIO.get(coding.compression)
    due = int(np.prod(shape)) * coding.bits // 8
    if most is not None and due > (count + 64) * most:
        raise ValueError(f"{count:,} bytes cannot hold {due:,}")


def decoded(coding: Coding, data: bytes, shape: tuple[int, int, int]) -> Cells:
    """Cells (samples, rows, columns) of one segment, in native byte order.

    shape: rows, columns and samples. Raises one of `codecs.DECODE_ERRORS` if `data` does not hold so many.
    """
    if coding.backwards and coding.compression not in ("jpeg", "jpeg2k", "webp", "png", "lerc"):
        data = bytes(imagecodecs.bitorder_decode(data))
    if coding.compression in codecs.CODECS:
        cells = _from_bytes(coding, data, shape)
    else:
        cells = unpacked(_from_picture(coding, data, shape), differences=False)
    if coding.inverted:
        cells = np.subtract(cells.dtype.type(2**coding.bits - 1), cells)
    return cells


def _from_bytes(coding: Coding, data: bytes, shape: tuple[int, int, int]) -> Cells:
    rows, columns, samples = shape
    if coding.subsampling != (1, 1) and samples == 3:
        across, down = coding.subsampling
        most = (-(-rows // down)) * (-(-columns // across)) * (across * down + 2)
        raw = codecs.CODECS[coding.compression].decode(data, most)
        return unpacked(colours.apart(raw, shape, coding.subsampling), differences=False)
    if coding.bits in (8, 16, 32, 64):
        cells = codecs.decode(coding.compression, data, shape, coding.dtype, coding.predictor)
        return cells.astype(np.float32) if coding.bits == 16 and coding.dtype.kind == "f" else cells
    line = -(-columns * samples * coding.bits // 8)
    raw = codecs.CODECS[coding.compression].decode(data, rows * line)
    if len(raw) < rows * line:
        raise ValueError(f"{len(raw):,} bytes where {rows * line:,} are due")
    if coding.dtype.kind == "f":
        cells = codecs.short_floats(raw, shape, coding.dtype.str[0], coding.predictor)
        return unpacked(cells, differences=False)
    packed = imagecodecs.packints_decode(raw, coding.dtype.name, coding.bits, runlen=columns * samples)
    return unpacked(packed.reshape(shape), differences=False)


def _from_picture(coding: Coding, data: bytes, shape: tuple[int, int, int]) -> Cells:
    name = coding.compression
    if name in pictures.FAX:
        return pictures.fax(name, data, shape, coding.packing)
    if name == "lerc":
        cells = pictures.lerc(data, shape, coding.packing, coding.hole)
    elif name == "jpeg":
        plain = _BY_SAMPLES.get(shape[2])
        space, to = _JPEG_SPACES.get(coding.photometric, (plain, plain)) if shape[2] > 1 else (plain, plain)
        cells = pictures.jpeg(data, shape, coding.tables, space, to)
    else:
        cells = {"jpeg2k": pictures.jpeg2k, "webp": pictures.webp, "png": pictures.png}[name](data, shape)
    if cells.dtype != coding.dtype.newbyteorder("="):
        raise ValueError(f"{cells.dtype.name} cells where {coding.dtype.name} are due")
    return cells
