"""Chunks of records: packed and unpacked by layout, and the table of where they lie.

LAZ specification, chunk table: version 0, number of chunks, and of each its bytes, and its points where
chunks
vary, as differences from the chunk before, by an integer coder of 32 bits with two contexts.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from numba import types

from zembrel.handles import FileBytes
from zembrel.points.laz import layered, pointwise
from zembrel.points.laz.coder import SLOTS, begin_decoding, begin_encoding, end_encoding
from zembrel.points.laz.integers import decode_int32, encode_int32, integer_models
from zembrel.points.laz.typed import INT, READONLY, entry
from zembrel.points.records import Layout

Bytes = npt.NDArray[np.uint8]
_NUMBERS = types.int64[:, ::1]


@dataclass(frozen=True)
class ChunkCodec:
    """Chunks to records and back, for one layout."""

    layout: Layout
    version: int = 3

    def decode(
        self, data: Bytes, count: int, fields: frozenset[str] | None = None, *, partial: bool = False
    ) -> tuple[Bytes, int]:
        """Records (count, bytes) of a chunk, and how many of them its data held.

        fields: names of the values that are wanted, None for all; formats 0 to 5 have all of them anyway.
        partial:
        take points of which only some values are there, as formats 6 to 10 allow.
        """
        records = np.zeros((count, self.layout.dtype.itemsize), np.uint8)
        if self.layout.long:
            return records, layered.decode_layers(
                data, records, self._layered(), self._wanted(fields), partial=partial
            )
        return records, pointwise.decode_chunk(data, records, self._pointwise())[0]

    def encode(self, records: Bytes) -> bytes:
        """A chunk of records (points, bytes), one at least."""
        if self.layout.long:
            return layered.encode_layers(records, self._layered())
        return pointwise.encode_chunk(records, self._pointwise())

    def size(self, data: Bytes, most: int) -> tuple[int, int]:
        """Bytes and points of the chunk that `data` begin with, of `most` points at most; 0 of what is cut
        off.

        Formats 0 to 5 have to be decoded for that.
        """
        if self.layout.long:
            return layered.chunk_size(data, self._layered())
        records = np.zeros((most, self.layout.dtype.itemsize), np.uint8)
        points, size = pointwise.decode_chunk(data, records, self._pointwise())
        return size, points

    def _at(self, name: str) -> int:
        held = self.layout.dtype.fields
        return int(held[name][1]) if held is not None and name in held else 0

    @property
    def _extra(self) -> int:
        return sum(field.size for field in self.layout.extra)

    def _pointwise(self) -> pointwise.Items:
        time, rgb, wave = (self._at(name) for name in ("gps_time", "red", "wave_index"))
        return pointwise.Items(self.layout.dtype.itemsize, time, rgb, wave, self._extra)

    def _layered(self) -> layered.LayeredItems:
        rgb, nir, wave = (self._at(name) for name in ("red", "nir", "wave_index"))
        return layered.LayeredItems(self.layout.dtype.itemsize, rgb, nir, wave, self._extra, self.version)

    def _wanted(self, fields: frozenset[str] | None) -> frozenset[int] | None:
        """First bytes of the items that hold the wanted values."""
        if fields is None:
            return None
        stored = {self.layout.stored(name) or "" for name in fields} - {""}
        first = {"green": "red", "blue": "red"} | {n: "wave_index" for n in stored if n.startswith("wave_")}
        wanted = {self._at(first.get(name, name)) for name in stored}
        for number, field in enumerate(self.layout.extra):
            if f"extra{number}" in stored:
                begin = self._at(f"extra{number}")
                wanted |= set(range(begin, begin + field.size))
        return frozenset(wanted)


class Chunk(NamedTuple):
    """Where a chunk lies: its first byte, its bytes and its points."""

    at: int
    size: int
    points: int


@entry(types.void, READONLY, types.uint16[::1], INT, _NUMBERS)
def _read(data, models, contexts, numbers):
    state = np.zeros(SLOTS, np.int64)
    begin_decoding(state.ctypes, data.ctypes, 0)
    for n in range(len(numbers)):
        for k in range(2):
            if k < contexts:
                context = k + 2 - contexts
                before = numbers[n - 1, context] if n else 0
                number = decode_int32(state.ctypes, data.ctypes, models.ctypes, 0, context, before)
                numbers[n, context] = number & 0xFFFFFFFF


@entry(INT, _NUMBERS, INT, types.uint8[::1], types.uint16[::1])
def _write(numbers, contexts, out, models):
    state = np.zeros(SLOTS, np.int64)
    begin_encoding(state.ctypes, 0)
    for n in range(len(numbers)):
        for k in range(2):
            if k < contexts:
                context = k + 2 - contexts
                before = numbers[n - 1, context] if n else 0
                encode_int32(state.ctypes, out.ctypes, models.ctypes, 0, context, before, numbers[n, context])
    return end_encoding(state.ctypes, out.ctypes)


def read_table(
    data: Bytes | FileBytes, at: int, *, variable: bool, most: int
) -> npt.NDArray[np.int64] | None:
    """Points (0 unless variable) and bytes of each chunk, (chunks, 2); None for a table that is none.

    at: where it begins; most: chunks that a file of this size can hold.
    """
    if len(data) < at + 8:
        return None
    version, number = np.frombuffer(data[at : at + 8].tobytes(), "<u4").tolist()
    if version != 0 or number > most:
        return None
    numbers = np.zeros((number, 2), np.int64)
    padded = np.concatenate((data[at + 8 : at + 8 + 16 * number + 64], np.zeros(16 * number + 64, np.uint8)))
    _read(padded, np.zeros(integer_models(2), np.uint16), 2 if variable else 1, numbers)
    return numbers


def write_table(numbers: npt.NDArray[np.int64], *, variable: bool) -> bytes:
    """The table of chunks of so many points and bytes, (chunks, 2)."""
    head = np.array([0, len(numbers)], "<u4").tobytes()
    out = np.empty(16 * len(numbers) + 64, np.uint8)
    models = np.zeros(integer_models(2), np.uint16)
    return head + out[: _write(np.ascontiguousarray(numbers), 2 if variable else 1, out, models)].tobytes()
