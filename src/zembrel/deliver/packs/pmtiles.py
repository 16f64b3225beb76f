"""Tiles in one file with directories, which is read by ranges.

Source: PMTiles specification, version 3: a header of 127 bytes, directories of tiles in the order of a
Hilbert curve, packed by gzip, metadata as JSON, and the pictures; one that occurs often stands once, and a
run of it is one entry. The root directory is in the first 16 KiB; the other parts are where the header says.
"""

from __future__ import annotations

import gzip
import json
import os
import struct
from array import array
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.deliver.packs.facts import PackFacts
from zembrel.deliver.quadtree import EncodedTile

_BUFFER = 4_000_000  # bytes that are written at a time
HEADER, ROOM = 127, 16_384  # bytes of the header, and of it with the root directory
_OTHER, _KINDS = 0, {"png": 2, "jpeg": 3, "webp": 4}
_GZIP = 2
Numbers = npt.NDArray[Any]
_Mark = tuple[int, bytes]  # size and end of a picture: the same for the same ones


def tile_numbers(zoom: Numbers, column: Numbers, row: Numbers) -> Numbers:
    """The numbers of tiles: those of lower zooms, and their places along the curve of D. Hilbert."""
    number, x, y = ((1 << 2 * zoom) - 1) // 3, column.copy(), row.copy()
    for bit in range(int(zoom.max(initial=0)) - 1, -1, -1):
        half = np.int64(1) << bit
        right, low, used = (x & half) > 0, (y & half) > 0, zoom > bit
        number += np.where(used, half * half * (3 * right ^ low), 0)
        x, y = x & (half - 1), y & (half - 1)
        turned = used & ~low & right
        x, y = np.where(turned, half - 1 - x, x), np.where(turned, half - 1 - y, y)
        x, y = np.where(used & ~low, y, x), np.where(used & ~low, x, y)
    return number


def _variable(numbers: Numbers) -> bytes:
    """Seven bits a byte, the lowest first; all but the last of a number with the highest bit."""
    sizes = np.ones(len(numbers), np.int64)
    for size in range(1, 10):
        sizes += numbers >> 7 * size > 0
    out = np.zeros(int(sizes.sum()), np.uint8)
    starts = np.cumsum(sizes) - sizes
    for place in range(int(sizes.max(initial=0))):
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
        return gzip.compress(b"".join(map(_variable, columns)), 6, mtime=0)


class PMTilesPack:
    """A file in the making: room for header and root directory, pictures as they come, then the rest.

    They lie in the order of a quadtree, not of the curve, and the header says so: nothing is written twice.
    """

    def __init__(self, path: Path) -> None:
        self._file = path.open("w+b", _BUFFER)
        self._file.write(bytes(ROOM))
        self._known: dict[_Mark, int] = {}
        self._alike: dict[_Mark, list[int]] = {}  # places of others of the same mark
        self._tiles = array("q")  # zoom, column, row, place and size of each
        self._count = self._end = 0

    def put(self, tile: EncodedTile) -> None:
        data = tile.data
        size = len(data)
        mark = size, data[-32:]
        place = self._known.get(mark)
        if place is None:
            place = self._known[mark] = self._append(data)
        elif not self._holds(place, data):
            others = self._alike.setdefault(mark, [])
            place = next((other for other in others if self._holds(other, data)), -1)
            if place < 0:
                place = self._append(data)
                others.append(place)
        self._tiles.extend((*tile.address, place, size))

    def _append(self, data: bytes) -> int:
        place = self._end
        self._file.write(data)
        self._end += len(data)
        self._count += 1
        return place

    def _holds(self, place: int, data: bytes) -> bool:
        """Whether just these bytes are there already."""
        self._file.flush()
        return os.pread(self._file.fileno(), len(data), ROOM + place) == data

    def finish(self, facts: PackFacts) -> None:
        entries = self._entries()
        root, leaves = _directories(entries)
        about = facts.tile_json("")
        del about["tiles"], about["tilejson"], about["scheme"]
        metadata = gzip.compress(json.dumps(about).encode(), mtime=0)
        after = ROOM + self._end
        starts = (HEADER, after, after + len(metadata), ROOM)
        sizes = (len(root), len(metadata), len(leaves), self._end)
        self._file.write(metadata + leaves)
        self._file.seek(0)
        self._file.write(self._header(facts, starts, sizes, len(entries.tiles)) + root)
        self._file.close()

    def _entries(self) -> Entries:
        """Runs of tiles along the curve that are one picture."""
        zooms, columns, rows, offsets, lengths = np.array(self._tiles, np.int64).reshape(-1, 5).T
        numbers = tile_numbers(zooms, columns, rows)
        rank = np.argsort(numbers)
        numbers, offsets, lengths = numbers[rank], offsets[rank], lengths[rank]
        begins = np.ones(len(numbers), bool)
        begins[1:] = (np.diff(numbers) != 1) | (np.diff(offsets) != 0)
        starts = np.flatnonzero(begins)
        runs = np.diff(np.append(starts, len(numbers)))
        return Entries(numbers[starts], offsets[starts], lengths[starts], runs)

    def _header(self, facts: PackFacts, starts: Sequence[int], sizes: Sequence[int], entries: int) -> bytes:
        places = [value for pair in zip(starts, sizes, strict=True) for value in pair]
        counts = (len(self._tiles) // 5, entries, self._count)
        kind = _OTHER if facts.mixed else _KINDS[facts.format]
        west, south, east, north = (round(side * 1e7) for side in facts.bounds)
        lon, lat, zoom = facts.centre
        return struct.pack(
            "<7sB8Q3Q6B4iB2i", b"PMTiles", 3, *places, *counts,
            0, _GZIP, 1, kind, facts.lowest, facts.highest, west, south, east, north,
            zoom, round(lon * 1e7), round(lat * 1e7),
        )  # fmt: skip

    def abort(self) -> None:
        self._file.close()


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
