"""Compression and prediction of TIFF segments, by way of the codec package.

Sources: TIFF Revision 6.0, sections 9, 13 and 14; TIFF Technical Note 2 (Deflate) and 3 (floating
point prediction); the Zstandard code 50000 as registered.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any, NamedTuple

import imagecodecs
import numpy as np
import numpy.typing as npt

from zembrel.errors import UsageError, nearest_name
from zembrel.formats.tiff import pictures
from zembrel.formats.tiff.packing import unpacked

Segment = npt.NDArray[Any]
NO_PREDICTION, HORIZONTAL, FLOATING = 1, 2, 3


class Codec(NamedTuple):
    """A compression scheme: TIFF code, default level (None: it has none), functions."""

    code: int
    level: int | None
    highest: int
    encode: Callable[[Any, int | None], bytes]
    decode: Callable[[bytes, int], bytes | bytearray]


CODECS = {
    "none": Codec(1, None, 0, lambda cells, _: cells.tobytes(), lambda data, _: data),
    "deflate": Codec(
        8,
        6,
        12,
        lambda cells, level: _deflate(cells, level or 6),
        lambda data, size: imagecodecs.deflate_decode(data, out=size),
    ),
    "lzw": Codec(
        5,
        None,
        0,
        lambda cells, _: bytes(imagecodecs.lzw_encode(cells)),
        lambda data, size: imagecodecs.lzw_decode(data, out=size),
    ),
    "packbits": Codec(
        32773,
        None,
        0,
        lambda cells, _: bytes(imagecodecs.packbits_encode(_byte_rows(cells), axis=-1)),
        lambda data, size: imagecodecs.packbits_decode(data, out=size),
    ),
    "zstd": Codec(
        50000,
        9,
        22,
        lambda cells, level: bytes(imagecodecs.zstd_encode(cells, level)),
        lambda data, size: imagecodecs.zstd_decode(data, out=size),
    ),
    "lzma": Codec(
        34925,
        None,
        0,
        lambda cells, _: bytes(imagecodecs.lzma_encode(cells.tobytes())),
        lambda data, size: imagecodecs.lzma_decode(data, out=size),
    ),
}
BY_CODE = {codec.code: name for name, codec in CODECS.items()} | {32946: "deflate", 34926: "zstd"}
PREDICTABLE = ("deflate", "lzw", "zstd", "lzma")
_SAMPLED_FROM = 131_072  # bytes of a tile; smaller ones are made dense
_SAMPLED_TO = 6  # levels beyond it ask for the smallest result, however long that takes
_SAMPLE, _PARTS = 16_384, 4  # bytes of a tile that are looked at, from so many parts of it
_APART = 8  # bytes
_NEARLY = 1.025  # times the size that a quick coder may make of the sample
# What codecs raise for data they cannot decode: the codec package's errors are all RuntimeErrors.
DECODE_ERRORS = (ValueError, RuntimeError, struct.error)


def _deflate(cells: Any, level: int) -> bytes:
    """A zlib stream. Where a sample says that it costs hardly any bytes, a quick coder makes it, which looks
    for near matches alone or for runs: several times as fast at photos, noisy heights and classes.
    """
    data: Any = cells.reshape(-1).view(np.uint8)
    if level <= _SAMPLED_TO and data.size >= _SAMPLED_FROM:
        parts = data[: data.size // _PARTS * _PARTS].reshape(_PARTS, -1)
        sample: Any = np.ascontiguousarray(parts[:, : _SAMPLE // _PARTS]).reshape(-1)
        enough = _NEARLY * len(imagecodecs.deflate_encode(sample, level))
        quick = next((coder for coder in (_near, _runs) if len(coder(sample)) <= enough), None)
        if quick is not None:
            return quick(data)
    return bytes(imagecodecs.deflate_encode(data, level))


def _near(data: Segment) -> bytes:
    """The coder hashes its own address with the first bytes, once: flushed by themselves they are past that,
    and the same cells give the same bytes.
    """
    from isal import isal_zlib

    stream = isal_zlib.compressobj(1)
    first = stream.compress(data[:_APART]) + stream.flush(isal_zlib.Z_SYNC_FLUSH)
    return first + stream.compress(data[_APART:]) + stream.flush()


def _runs(data: Segment) -> bytes:
    from zlib_ng import zlib_ng

    stream = zlib_ng.compressobj(6, zlib_ng.DEFLATED, zlib_ng.MAX_WBITS, 9, zlib_ng.Z_RLE)
    return stream.compress(data) + stream.flush()


def _byte_rows(cells: Segment) -> Segment:
    return np.ascontiguousarray(cells).view(np.uint8).reshape(cells.shape[0], -1)


def decode(
    name: str, data: bytes, shape: tuple[int, int, int], dtype: np.dtype[Any], predictor: int
) -> Segment:
    """Cells (samples, rows, columns) of one segment, in native byte order.

    shape: rows, columns and samples; dtype: as the file holds it. Raises ValueError if the data holds
    fewer cells than that.
    """
    size = int(np.prod(shape)) * dtype.itemsize
    raw = CODECS[name].decode(data, size)
    if len(raw) < size:
        raise ValueError(f"{len(raw):,} bytes where {size:,} are due")
    if predictor == FLOATING:
        whole = _joined_bytes(raw, shape, dtype.itemsize).view(dtype.newbyteorder(">")).reshape(shape)
        return unpacked(whole.astype(dtype.newbyteorder("=")), differences=False)
    cells = np.frombuffer(raw, dtype, int(np.prod(shape))).reshape(shape)
    cells = cells.astype(dtype.newbyteorder("="), copy=False)
    return unpacked(cells, differences=predictor == HORIZONTAL)


def encode(name: str, level: int | None, cells: Segment, predictor: int, order: str = "<") -> bytes:
    """Bytes of one tile (rows, columns, samples), in byte order `order`.

    Differences of the horizontal predictor are taken already (`packing`).
    """
    if predictor == FLOATING:
        cells = _split_floats(cells)
    if order == ">" and predictor != FLOATING:
        cells = cells.byteswap()
    return CODECS[name].encode(np.ascontiguousarray(cells), level)


def short_floats(raw: Any, shape: tuple[int, int, int], order: str, predictor: int) -> Segment:
    """Floats of 24 bits, (rows, columns, samples), as such of 32."""
    if predictor == FLOATING:
        raw, order = _joined_bytes(raw, shape, 3).tobytes(), ">"
    cells: Segment = imagecodecs.float24_decode(bytes(raw), byteorder="<" if order == "<" else ">")
    return cells.reshape(shape)


def _joined_bytes(raw: Any, shape: tuple[int, int, int], size: int) -> Segment:
    """Undo floating point prediction (differences of bytes, most significant plane first): bytes of
    big-endian floats, (rows, columns * samples, size).
    """
    rows = np.frombuffer(raw, np.uint8, int(np.prod(shape)) * size).reshape(shape[0], -1)
    planes = np.empty(rows.shape, np.uint8)
    steps = rows.reshape(shape[0], -1, shape[2])
    np.add.accumulate(steps, axis=1, dtype=np.uint8, out=planes.reshape(steps.shape))
    return np.ascontiguousarray(planes.reshape(shape[0], size, -1).transpose(0, 2, 1))


def _split_floats(cells: Segment) -> Segment:
    rows, columns, samples = cells.shape
    size = cells.dtype.itemsize
    big = cells.astype(cells.dtype.newbyteorder(">")).view(np.uint8).reshape(rows, columns * samples, size)
    planes = np.ascontiguousarray(big.transpose(0, 2, 1)).reshape(rows, -1, samples)
    steps = planes.copy()
    steps[:, 1:] -= planes[:, :-1]
    return steps


def predictor_for(name: str, dtype: np.dtype[Any], categorical: bool) -> int:
    """The prediction that pays for this kind of cells."""
    if name not in PREDICTABLE or categorical:
        return NO_PREDICTION
    return FLOATING if dtype.kind == "f" else HORIZONTAL


def parse_compression(text: str) -> tuple[str, float | None]:
    """`deflate`, `zstd:15`, `jpeg:80`, `lerc:0.01`, `none` as name and level. Raises UsageError."""
    name, colon, level = text.lower().partition(":")
    if name in pictures.WRITTEN:
        return name, _picture_level(name, level) if colon else None
    written = [other for other in CODECS if other != "lzma"]
    if name not in written:
        raise UsageError(
            f"GeoTIFF has no compression {name!r} here",
            "readers could not decode the result",
            nearest_name(name, [*written, *pictures.WRITTEN]),
        )
    codec = CODECS[name]
    if not colon:
        return name, codec.level
    if codec.level is None or not level.isdigit() or not 1 <= int(level) <= codec.highest:
        levels = f"levels 1 to {codec.highest}" if codec.level is not None else "no levels"
        raise UsageError(
            f"{text!r} is no compression level", f"{name} has {levels}", f"write --compress {name}"
        )
    return name, int(level)


def _picture_level(name: str, level: str) -> float:
    try:
        number = float(level)
    except ValueError:
        number = -1.0
    if name == "lerc" and 0 <= number < float("inf"):
        return number
    if name != "lerc" and number.is_integer() and 1 <= number <= 100:
        return number
    means = "the largest error it may make" if name == "lerc" else "a quality of 1 to 100"
    raise UsageError(
        f"{name}:{level} is unclear", f"what follows {name}: is {means}", f"write --compress {name}"
    )
