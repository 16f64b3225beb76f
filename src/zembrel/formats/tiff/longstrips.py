"""Strips too long to be held: unpacked once, some rows at a time, into a file of this run."""

from __future__ import annotations

import io
import lzma
import threading
from collections import OrderedDict
from collections.abc import Hashable, Iterator
from dataclasses import replace
from typing import Any

import imagecodecs
import numpy as np
from zlib_ng import zlib_ng

from zembrel.formats.tiff import lzwparts
from zembrel.formats.tiff.coding import Coding, check_ratio, decoded
from zembrel.formats.tiff.directory import Container
from zembrel.raster.model import Cells
from zembrel.scratch import Scratch

LONG = 64_000_000  # bytes of cells from which a strip is not held
_CHUNK, _PIECE = 1 << 20, 1 << 23  # bytes read, and unpacked, at a time
_KEPT = 4  # strips on the disk
_DICTIONARY = 300_000_000  # bytes that unpacking LZMA may take


def is_long(coding: Coding, shape: tuple[int, int, int]) -> bool:
    """Whether a strip of rows, columns and samples is unpacked to the disk."""
    plain = coding.compression in _UNPACKERS and not coding.backwards and coding.subsampling == (1, 1)
    return plain and coding.bits in (8, 16, 32, 64) and int(np.prod(shape)) * coding.dtype.itemsize > LONG


class StripOnDisk:
    """Cells of a strip, which are read as they are asked for: `strip[samples, rows, columns]`."""

    def __init__(self, shape: tuple[int, int, int], dtype: np.dtype[Any]) -> None:
        self._shape, self._dtype, self._scratch = shape, dtype, Scratch()
        self._path = self._scratch.path / "cells"

    def fill(self, parts: Iterator[Cells]) -> None:
        """Take (samples, rows, columns) from the top down. Raises ValueError if rows are missing."""
        rows = 0
        with self._path.open("wb") as file:
            for part in parts:
                np.stack(list(part), axis=-1, dtype=self._dtype).tofile(file)
                rows += part.shape[1]
        if rows < self._shape[0]:
            raise ValueError(f"{rows:,} rows where {self._shape[0]:,} are due")

    def __getitem__(self, key: tuple[Any, slice, slice]) -> Cells:
        samples, rows, columns = key
        line = self._shape[1] * self._shape[2]
        first, last, _ = rows.indices(self._shape[0])
        count, offset = (last - first) * line, first * line * self._dtype.itemsize
        cells = np.fromfile(self._path, self._dtype, count, offset=offset).reshape(-1, *self._shape[1:])
        return cells[:, columns, samples].transpose(2, 0, 1)


class _Strips:
    """Strips at hand, the latest used; each is unpacked by one thread while others wait."""

    def __init__(self) -> None:
        self._lock, self._held = threading.Lock(), OrderedDict[Hashable, StripOnDisk]()

    def get(
        self,
        key: Hashable,
        container: Container,
        place: tuple[int, int],
        coding: Coding,
        shape: tuple[int, int, int],
    ) -> StripOnDisk:
        """The strip of `shape` whose bytes lie at an offset, so many. Raises DECODE_ERRORS and InputError."""
        with self._lock:
            if key not in self._held:
                check_ratio(coding, place[1], shape)
                strip = StripOnDisk(shape, np.dtype(coding.cell_type))
                strip.fill(_unpacked(container, place, coding, shape))
                self._held[key] = strip
                while len(self._held) > _KEPT:
                    self._held.popitem(last=False)
            self._held.move_to_end(key)
            return self._held[key]


long_strips = _Strips()


def _unpacked(
    container: Container, place: tuple[int, int], coding: Coding, shape: tuple[int, int, int]
) -> Iterator[Cells]:
    """Some rows at a time, (samples, rows, columns)."""
    rows, columns, samples = shape
    line, plain = columns * samples * coding.dtype.itemsize, replace(coding, compression="none")
    held, left = bytearray(), rows
    for raw in _UNPACKERS[coding.compression](container, place):
        held += raw
        whole = min(len(held) // line, left)
        if whole and (len(held) >= _PIECE or whole == left):
            yield decoded(plain, bytes(held[: whole * line]), (whole, columns, samples))
            del held[: whole * line]
            left -= whole
        if not left:
            return
    whole = min(len(held) // line, left)
    if whole:
        yield decoded(plain, bytes(held[: whole * line]), (whole, columns, samples))


def _inflated(container: Container, place: tuple[int, int]) -> Iterator[bytes]:
    """The bytes that Deflate packs, some at a time. Raises ValueError for data that are damaged."""
    stream, (offset, count) = zlib_ng.decompressobj(), place
    for at in range(0, count, _CHUNK):
        data = container.read(offset + at, min(_CHUNK, count - at), "strip")
        while data and not stream.eof:
            try:
                yield stream.decompress(data, _PIECE)
            except zlib_ng.error as exc:  # type: ignore[misc]
                raise ValueError(f"{exc}") from exc
            data = stream.unconsumed_tail


def _of_zstandard(container: Container, place: tuple[int, int]) -> Iterator[bytes]:
    """The bytes that Zstandard packs, some at a time. Raises ValueError for data that are damaged."""
    import pyarrow as pa

    try:
        with pa.CompressedInputStream(pa.PythonFile(_Part(container, place), "r"), "zstd") as stream:
            while data := stream.read(_PIECE):
                yield data
    except OSError as exc:
        raise ValueError(f"{exc}") from exc


def _of_lzw(container: Container, place: tuple[int, int]) -> Iterator[bytes]:
    """The bytes that LZW packs, some at a time. Raises ValueError or RuntimeError for damaged data."""
    yield from lzwparts.parts(lambda at, count: container.read(place[0] + at, count, "strip"), place[1])


def _of_lzma(container: Container, place: tuple[int, int]) -> Iterator[bytes]:
    """The bytes that LZMA packs, some at a time. Raises ValueError for data that are damaged."""
    stream, (offset, count) = lzma.LZMADecompressor(memlimit=_DICTIONARY), place
    for at in range(0, count, _CHUNK):
        data = container.read(offset + at, min(_CHUNK, count - at), "strip")
        try:
            while not stream.eof and (data or not stream.needs_input):
                yield stream.decompress(data, _PIECE)
                data = b""
        except lzma.LZMAError as exc:
            raise ValueError(f"{exc}") from exc


def _of_packbits(container: Container, place: tuple[int, int]) -> Iterator[bytes]:
    """The bytes that PackBits packs, some at a time (TIFF 6.0, section 9): data are cut between packets.

    Raises RuntimeError for damaged data.
    """
    (offset, count), held = place, b""
    chunk = _CHUNK // 16  # a byte may stand for 64
    for at in range(0, count, chunk):
        held += container.read(offset + at, min(chunk, count - at), "strip")
        end, size = 0, len(held)
        while end < size:
            head = held[
                end
            ]  # 0 to 127: so many bytes and one follow; from 129 on one byte, which is repeated
            step = head + 2 if head < 128 else 2 if head > 128 else 1
            if end + step > size:
                break
            end += step
        yield bytes(imagecodecs.packbits_decode(held[:end]))
        held = held[end:]


class _Part(io.RawIOBase):
    """Some bytes of a container as a file."""

    def __init__(self, container: Container, place: tuple[int, int]) -> None:
        self._container, (self._at, self._left) = container, place

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        count = min(self._left, size if size >= 0 else self._left)
        data = self._container.read(self._at, count, "strip") if count else b""
        self._at, self._left = self._at + count, self._left - count
        return data


_UNPACKERS = {
    "deflate": _inflated, "zstd": _of_zstandard, "lzw": _of_lzw, "lzma": _of_lzma, "packbits": _of_packbits,
}  # fmt: skip
