"""Tiles in one file with directories, which is read by ranges.

Source: PMTiles specification, version 3: a header of 127 bytes, directories of tiles in the order of a
Hilbert curve, packed by gzip, metadata as JSON, and the pictures; one that occurs often stands once, and a
run of it is one entry.
"""

from __future__ import annotations

import gzip
import hashlib
import json
import struct
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from zembrel.deliver.packs.facts import PackFacts
from zembrel.deliver.quadtree import EncodedTile
from zembrel.deliver.tiling import TileAddress

HEADER, ROOM = 127, 16_384  # bytes of the header, and of it with the root directory
_KINDS = {"png": 2, "jpeg": 3, "webp": 4}
_GZIP = 2
_CHUNK = 1 << 20


class Entry(NamedTuple):
    """A run of tiles that are one picture; a run of none names a directory."""

    tile: int
    offset: int
    length: int
    run: int


def tile_number(address: TileAddress) -> int:
    """The number of a tile: those of lower zooms, and its place along the curve of D. Hilbert."""
    zoom, x, y = address
    number = ((1 << 2 * zoom) - 1) // 3
    for bit in reversed(range(zoom)):
        half = 1 << bit
        right, low = bool(x & half), bool(y & half)
        number += (half * half) * ((3 * right) ^ low)
        if not low:
            if right:
                x, y = half - 1 - (x & (half - 1)), half - 1 - (y & (half - 1))
            x, y = y, x
        x, y = x & (half - 1), y & (half - 1)
    return number


def _variable(number: int, out: bytearray) -> None:
    """Seven bits a byte, the lowest first."""
    while number >= 0x80:
        out.append(number & 0x7F | 0x80)
        number >>= 7
    out.append(number)


def packed_directory(entries: Sequence[Entry]) -> bytes:
    """Entries column by column, packed."""
    out = bytearray()
    _variable(len(entries), out)
    before = 0
    for entry in entries:
        _variable(entry.tile - before, out)
        before = entry.tile
    for entry in entries:
        _variable(entry.run, out)
    for entry in entries:
        _variable(entry.length, out)
    follows = -1
    for entry in entries:
        _variable(0 if entry.offset == follows else entry.offset + 1, out)
        follows = entry.offset + entry.length
    return gzip.compress(bytes(out), mtime=0)


class PMTilesPack:
    """A file in the making; pictures are kept beside it until all are known."""

    def __init__(self, path: Path) -> None:
        self._path, self._spool = path, path.with_name(path.name + ".pictures")
        self._held = self._spool.open("w+b")
        self._known: dict[bytes, tuple[int, int]] = {}
        self._tiles: list[tuple[int, int, int]] = []
        self._end = 0

    def put(self, tile: EncodedTile) -> None:
        mark = hashlib.blake2b(tile.data, digest_size=16).digest()
        place = self._known.get(mark)
        if place is None:
            place = self._known[mark] = self._end, len(tile.data)
            self._held.write(tile.data)
            self._end += len(tile.data)
        self._tiles.append((tile_number(tile.address), *place))

    def finish(self, facts: PackFacts) -> None:
        self._tiles.sort()
        entries, order = self._entries()
        root, leaves = _directories(entries)
        about = facts.tile_json("")
        del about["tiles"], about["tilejson"], about["scheme"]
        metadata = gzip.compress(json.dumps(about).encode(), mtime=0)
        starts = [HEADER, HEADER + len(root)]
        starts.append(starts[1] + len(metadata))
        starts.append(starts[2] + len(leaves))
        with self._path.open("wb") as file:
            sizes = (len(root), len(metadata), len(leaves), self._end)
            file.write(self._header(facts, starts, sizes, len(entries)))
            for part in (root, metadata, leaves):
                file.write(part)
            for offset, length in order:
                self._held.seek(offset)
                file.write(self._held.read(length))
        self.abort()

    def _entries(self) -> tuple[list[Entry], list[tuple[int, int]]]:
        """Runs of tiles with the new places of their pictures, and the old places in the order of the new."""
        entries: list[Entry] = []
        moved: dict[int, int] = {}
        order: list[tuple[int, int]] = []
        end = 0
        for number, offset, length in self._tiles:
            if offset not in moved:
                moved[offset], end = end, end + length
                order.append((offset, length))
            last = entries[-1] if entries else None
            if last is not None and last.tile + last.run == number and last.offset == moved[offset]:
                entries[-1] = last._replace(run=last.run + 1)
            else:
                entries.append(Entry(number, moved[offset], length, 1))
        return entries, order

    def _header(self, facts: PackFacts, starts: Sequence[int], sizes: Sequence[int], entries: int) -> bytes:
        places = [value for pair in zip(starts, sizes, strict=True) for value in pair]
        counts = (len(self._tiles), entries, len(self._known))
        kind = _KINDS.get(facts.format, 0)
        west, south, east, north = (round(side * 1e7) for side in facts.bounds)
        lon, lat, zoom = facts.centre
        return struct.pack(
            "<7sB8Q3Q6B4iB2i", b"PMTiles", 3, *places, *counts,
            1, _GZIP, 1, kind, facts.lowest, facts.highest, west, south, east, north,
            zoom, round(lon * 1e7), round(lat * 1e7),
        )  # fmt: skip

    def abort(self) -> None:
        self._held.close()
        self._spool.unlink(missing_ok=True)


def _directories(entries: Sequence[Entry]) -> tuple[bytes, bytes]:
    """The root directory, which fits its room, and the directories that it names."""
    root = packed_directory(entries)
    if len(root) <= ROOM - HEADER:
        return root, b""
    size = 4_096
    while True:
        leaves, named = bytearray(), list[Entry]()
        for start in range(0, len(entries), size):
            part = packed_directory(entries[start : start + size])
            named.append(Entry(entries[start].tile, len(leaves), len(part), 0))
            leaves += part
        root = packed_directory(named)
        if len(root) <= ROOM - HEADER:
            return root, bytes(leaves)
        size *= 2
