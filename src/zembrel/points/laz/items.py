"""What a compressed record consists of, and the codec of its chunks.

LAZ specification, its variable-length record: compressor, size of chunks, and the items of a record with
type, size and
version.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import NamedTuple

from zembrel.errors import InputError
from zembrel.points.las.vlr import Record
from zembrel.points.records import Layout

KEY = ("laszip encoded", 22204)  # the user and number that the LAZ specification gives its record
POINTWISE, CHUNKED, LAYERED = 1, 2, 3  # compressors
VARIABLE = 0xFFFFFFFF  # size of chunks where each has its own
USUAL = 50_000  # points of a chunk
_HEAD = struct.Struct("<HHBBHIIqqH")
_ITEM = struct.Struct("<HHH")
_BYTES, _POINT10, _TIME, _RGB, _WAVE, _POINT14, _RGB14, _RGBNIR, _WAVE14, _BYTES14 = (
    0,
    6,
    7,
    8,
    9,
    10,
    11,
    12,
    13,
    14,
)
_SIZES = {_POINT10: 20, _TIME: 8, _RGB: 6, _WAVE: 29, _POINT14: 30, _RGB14: 6, _RGBNIR: 8, _WAVE14: 29}
_VERSIONS = {_POINT10: (2,), _TIME: (2,), _RGB: (2,), _WAVE: (1,), _BYTES: (2,)}
_LAYERED_VERSIONS = (3, 4)
_FORMATS = {
    0: (_POINT10,), 1: (_POINT10, _TIME), 2: (_POINT10, _RGB), 3: (_POINT10, _TIME, _RGB),
    4: (_POINT10, _TIME, _WAVE), 5: (_POINT10, _TIME, _RGB, _WAVE), 6: (_POINT14,), 7: (_POINT14, _RGB14),
    8: (_POINT14, _RGBNIR), 9: (_POINT14, _WAVE14), 10: (_POINT14, _RGBNIR, _WAVE14),
}  # fmt: skip


class LazItem(NamedTuple):
    """A part of a record: its type, its bytes, and the version of its coding."""

    type: int
    size: int
    version: int


@dataclass(frozen=True)
class Compression:
    """How the points of a file are compressed."""

    compressor: int
    chunk: int  # points of one, or VARIABLE
    items: tuple[LazItem, ...]


def compression_for(layout: Layout, chunk: int = USUAL) -> Compression:
    """How Zembrel compresses records of a layout."""
    extra = sum(field.size for field in layout.extra)
    long = layout.long
    items = [LazItem(t, _SIZES[t], 3 if long else _VERSIONS[t][0]) for t in _FORMATS[layout.format]]
    items += [LazItem(_BYTES14 if long else _BYTES, extra, 3 if long else 2)] if extra else []
    return Compression(LAYERED if long else CHUNKED, chunk, tuple(items))


def write_compression(compression: Compression) -> Record:
    """The record that tells of it."""
    items = compression.items
    head = _HEAD.pack(compression.compressor, 0, 3, 4, 3, 0, compression.chunk, -1, -1, len(items))
    return Record(*KEY, head + b"".join(_ITEM.pack(*item) for item in items), "compression of points")


def read_compression(data: bytes, layout: Layout, path: object) -> Compression:
    """The compression that a record tells of. Raises InputError unless it fits the layout and is known."""
    if len(data) < _HEAD.size:
        raise _broken(path, "its record of compression is too short")
    compressor, coder, *_, chunk, _, _, number = _HEAD.unpack_from(data)
    if len(data) < _HEAD.size + number * _ITEM.size:
        raise _broken(path, "its record of compression is cut off")
    items = tuple(LazItem(*_ITEM.unpack_from(data, _HEAD.size + n * _ITEM.size)) for n in range(number))
    if coder != 0 or compressor not in (POINTWISE, CHUNKED, LAYERED):
        raise _broken(path, f"compressor {compressor} with coder {coder} is not of the LAZ specification")
    extra = sum(field.size for field in layout.extra)
    expected = [(t, _SIZES[t]) for t in _FORMATS[layout.format]]
    expected += [(_BYTES14 if layout.long else _BYTES, extra)] if extra else []
    if [(item.type, item.size) for item in items] != expected:
        raise _broken(path, f"its items do not make a record of format {layout.format}")
    for item in items:
        versions = _LAYERED_VERSIONS if layout.long else _VERSIONS[item.type]
        if item.version not in versions:
            raise InputError(
                f"{path} has version {item.version} of item {item.type}",
                f"versions {', '.join(map(str, versions))} are known here",
                "write it anew with the program that made it",
            )
    if layout.long != (compressor == LAYERED):
        raise _broken(path, f"compressor {compressor} is not for points of format {layout.format}")
    if chunk == 0 and compressor != POINTWISE:
        raise _broken(path, "its chunks hold no point")
    return Compression(compressor, chunk, items)


def _broken(path: object, why: str) -> InputError:
    return InputError(f"{path} cannot be unpacked", why, "fetch the file again, or write it anew")
