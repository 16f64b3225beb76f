"""Tiles in one file with directories, which is read by ranges.

Source: PMTiles specification, version 3: a header of 127 bytes, directories of tiles in the order of a
Hilbert curve, packed by gzip, metadata as JSON, and the pictures; one that occurs often stands once, and a
run of it is one entry. The root directory is in the first 16 KiB; the other parts are where the header says.
"""

from __future__ import annotations

import json
import os
import struct
import tempfile
from array import array
from collections.abc import Iterator, Sequence
from functools import cache
from mmap import ACCESS_READ, mmap
from pathlib import Path
from typing import Any, NamedTuple

import imagecodecs
import numpy as np
import numpy.typing as npt

from zembrel.deliver.packs.alike import KnownPictures
from zembrel.deliver.packs.packfacts import PackFacts
from zembrel.deliver.quadtree import EncodedTile

_WAITING, _MOST_WAITING = 4_000_000, 256  # bytes and pictures that are written at a time, at most
_BITS = 4  # of column and row, by which the curve goes on in one step
HEADER, ROOM = 127, 16_384  # bytes of the header, and of it with the root directory
_OTHER, _KINDS = 0, {"png": 2, "jpeg": 3, "webp": 4}
_GZIP, _CLUSTERED = 2, 1
Numbers = npt.NDArray[Any]


@cache
def _curve() -> tuple[Numbers, Numbers]:
    """How D. Hilbert's curve goes on: by state and the next bits of column and row, as one number, its next
    digits and the state after them. A state is whether rows and columns are swapped, and turned round.
    """
    state, column, row = np.indices((4, 1 << _BITS, 1 << _BITS)).reshape(3, -1)
    swapped, turned, digits = state & 1, state >> 1, np.zeros_like(state)
    for bit in range(_BITS - 1, -1, -1):
        x, y = column >> bit & 1, row >> bit & 1
        x, y = np.where(swapped, y, x) ^ turned, np.where(swapped, x, y) ^ turned
        digits = digits << 2 | (3 * x ^ y)
        swapped, turned = swapped ^ (1 - y), turned ^ (1 - y & x)
    return digits, swapped | turned << 1


def tile_numbers(zoom: Numbers, column: Numbers, row: Numbers) -> Numbers:
    """The numbers of tiles: those of lower zooms, and their places along the curve."""
    digits, following = _curve()
    steps = -(-int(zoom.max(initial=0)) // _BITS)
    state, place, low = steps * _BITS - zoom & 1, np.zeros_like(zoom), (1 << _BITS) - 1
    for shift in range((steps - 1) * _BITS, -1, -_BITS):  # bits above those of a zoom are 0, and swap
        at = (state << _BITS | column >> shift & low) << _BITS | row >> shift & low
        place = place << 2 * _BITS | digits[at]
        state = following[at]
    numbers: Numbers = ((1 << 2 * zoom) - 1) // 3 + place
    return numbers


def _variable(numbers: Numbers) -> bytes:
    """Seven bits a byte, the lowest first; all but the last of a number with the highest bit."""
    longest = max(1, -(-int(numbers.max(initial=0)).bit_length() // 7))
    if longest == 1:
        return numbers.astype(np.uint8).tobytes()
    sizes = np.ones(len(numbers), np.int64)
    for size in range(1, longest):
        sizes += numbers >> 7 * size > 0
    out = np.zeros(int(sizes.sum()), np.uint8)
    starts = np.cumsum(sizes) - sizes
    for place in range(longest):
        has = sizes > place
        more = np.where(sizes[has] > place + 1, 0x80, 0)
        out[starts[has] + place] = (numbers[has] >> 7 * place & 0x7F) | more
    return out.tobytes()


class Entries(NamedTuple):
    """Runs of tiles that are one picture: first numbers, places and bytes of pictures, how many tiles.

    A run of none names a directory.
    """

    tiles: Numbers
    offsets: Numbers
    lengths: Numbers
    runs: Numbers

    def part(self, start: int, end: int) -> Entries:
        return Entries(*(column[start:end] for column in self))

    @property
    def packed(self) -> bytes:
        """Column by column, packed."""
        steps = np.diff(self.tiles, prepend=0)
        follows = np.concatenate([[-1], self.offsets[:-1] + self.lengths[:-1]])
        offsets = np.where(self.offsets == follows, 0, self.offsets + 1)
        columns = (np.array([len(self.tiles)]), steps, self.runs, self.lengths, offsets)
        return _gzip(b"".join(map(_variable, columns)))


class Pictures(NamedTuple):
    """Pictures in their order: where they were kept, and their bytes."""

    places: Numbers
    lengths: Numbers


class PMTilesPack:
    """A file in the making: pictures as they come, which go into it at the end in the order of the curve."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._store = tempfile.TemporaryFile(dir=path.parent, buffering=0)  # noqa: SIM115 closed at the end
        self._waiting: list[bytes] = []
        self._known = KnownPictures(self._holds)
        self._tiles = array("q")  # zoom, column, row, place and size of each
        self._count = self._end = self._written = 0

    def put(self, tile: EncodedTile) -> None:
        address, data, _ = tile
        place = self._known.place_of(data, self._end)
        self._tiles.extend((*address, place, len(data)))
        if place == self._end:
            self._waiting.append(data)
            self._end += len(data)
            self._count += 1
            if self._end - self._written >= _WAITING or len(self._waiting) >= _MOST_WAITING:
                self._flush()

    def _flush(self) -> None:
        """Write what waits, without putting it together first."""
        _write(self._store.fileno(), self._waiting)
        self._waiting, self._written = [], self._end

    def _holds(self, place: int, data: bytes) -> bool:
        if place >= self._written:
            self._flush()
        return os.pread(self._store.fileno(), len(data), place) == data

    def finish(self, facts: PackFacts) -> None:
        self._flush()
        entries, pictures = self._entries()
        root, leaves = _directories(entries)
        about = facts.tile_json("")
        del about["tiles"], about["tilejson"], about["scheme"]
        metadata = _gzip(json.dumps(about).encode())
        after = ROOM + self._end
        starts = (HEADER, after, after + len(metadata), ROOM)
        sizes = (len(root), len(metadata), len(leaves), self._end)
        head = self._header(facts, starts, sizes, len(entries.tiles)) + root
        with self._path.open("wb", buffering=0) as file:
            _write(file.fileno(), [head, bytes(ROOM - len(head))])
            for parts in self._gathered(pictures):
                _write(file.fileno(), parts)
                for part in parts:
                    part.release()
            _write(file.fileno(), [metadata, leaves])
        self._store.close()

    def _gathered(self, pictures: Pictures) -> Iterator[list[memoryview]]:
        """The pictures in their new order, some at a time, what lies together as one."""
        ends = pictures.places + pictures.lengths
        apart = np.flatnonzero(pictures.places[1:] != ends[:-1]) + 1
        starts = pictures.places[np.append(0, apart)].tolist()
        stops = ends[np.append(apart - 1, len(ends) - 1)].tolist()
        with mmap(self._store.fileno(), 0, access=ACCESS_READ) as held, memoryview(held) as view:
            for first in range(0, len(starts), _MOST_WAITING):
                part = slice(first, first + _MOST_WAITING)
                yield [view[start:stop] for start, stop in zip(starts[part], stops[part], strict=True)]

    def _entries(self) -> tuple[Entries, Pictures]:
        """Runs of tiles along the curve that are one picture, and the pictures in the order they occur."""
        zooms, columns, rows, offsets, lengths = np.array(self._tiles, np.int64).reshape(-1, 5).T
        numbers = tile_numbers(zooms, columns, rows)
        rank = np.argsort(numbers)
        numbers, places, lengths = numbers[rank], offsets[rank], lengths[rank]
        _, first, which = np.unique(places, return_index=True, return_inverse=True)
        order = np.argsort(first)
        pictures = Pictures(places[first[order]], lengths[first[order]])
        new = np.empty(len(order), np.int64)
        new[order] = np.cumsum(pictures.lengths) - pictures.lengths
        offsets = new[which]
        begins = np.ones(len(numbers), bool)
        begins[1:] = (np.diff(numbers) != 1) | (np.diff(offsets) != 0)
        starts = np.flatnonzero(begins)
        runs = np.diff(np.append(starts, len(numbers)))
        return Entries(numbers[starts], offsets[starts], lengths[starts], runs), pictures

    def _header(self, facts: PackFacts, starts: Sequence[int], sizes: Sequence[int], entries: int) -> bytes:
        places = [value for pair in zip(starts, sizes, strict=True) for value in pair]
        counts = (len(self._tiles) // 5, entries, self._count)
        kind = _OTHER if facts.mixed else _KINDS[facts.format]
        west, south, east, north = (round(side * 1e7) for side in facts.told_bounds)
        lon, lat, zoom = facts.centre
        return struct.pack(
            "<7sB8Q3Q6B4iB2i", b"PMTiles", 3, *places, *counts,
            _CLUSTERED, _GZIP, 1, kind, facts.lowest, facts.highest, west, south, east, north,
            zoom, round(lon * 1e7), round(lat * 1e7),
        )  # fmt: skip

    def abort(self) -> None:
        self._store.close()


def _gzip(data: bytes) -> bytes:
    return bytes(imagecodecs.gzip_encode(data, 6))


def _directories(entries: Entries) -> tuple[bytes, bytes]:
    """The root directory, which fits its room, and the directories that it names."""
    root, count, size = entries.packed, len(entries.tiles), 4_096
    if len(root) <= ROOM - HEADER:
        return root, b""
    while True:
        starts = range(0, count, size)
        parts = [entries.part(start, start + size).packed for start in starts]
        lengths = np.array([len(part) for part in parts], np.int64)
        offsets = np.cumsum(lengths) - lengths
        root = Entries(entries.tiles[::size], offsets, lengths, np.zeros(len(parts), np.int64)).packed
        if len(root) <= ROOM - HEADER:
            return root, b"".join(parts)
        size *= 2


def _write(number: int, parts: Sequence[bytes | memoryview]) -> None:
    """Write to an open file, without putting the parts together first."""
    rest = list(parts)
    while rest:
        done = os.writev(number, rest)
        while rest and done >= len(rest[0]):
            done -= len(rest.pop(0))
        if rest:
            rest[0] = memoryview(rest[0])[done:]
