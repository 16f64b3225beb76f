"""Variable-length records and extended ones: LAS Specification 1.4 R15, tables 5 and 22."""

from __future__ import annotations

import struct
from collections.abc import Iterable
from typing import NamedTuple

from zembrel.handles import FileBytes

_HEAD, _EXTENDED = struct.Struct("<H16sHH32s"), struct.Struct("<H16sHQ32s")
PROVENANCE = ("zembrel", 1)  # the record that tells how a file came about
_MOST = 100_000  # records that are read at most: a header may lie
_LARGEST = 1 << 26  # bytes of a record that are kept, but for waveforms


class Record(NamedTuple):
    """One record: who defines it, which one it is, what it holds, and where it lies if that is too large."""

    user: str
    id: int
    data: bytes
    description: str = ""
    at: int = 0
    size: int = 0

    @property
    def key(self) -> tuple[str, int]:
        return self.user, self.id


def read_records(
    data: FileBytes, at: int, number: int, *, extended: bool = False
) -> tuple[list[Record], str | None]:
    """Records from `at` on, and what is wrong if there are fewer than the header says."""
    head = _EXTENDED if extended else _HEAD
    found: list[Record] = []
    for n in range(min(number, _MOST)):
        if not 0 <= at <= len(data) - head.size:
            return found, f"its header tells of {number:,} records, and {n:,} are there"
        _, user, kind, size, description = head.unpack_from(data[at : at + head.size].tobytes())
        at += head.size
        if at + size > len(data):
            return found, f"record {n + 1} is cut off: {size:,} bytes are said, {len(data) - at:,} are there"
        held = data[at : at + size].tobytes() if size <= _LARGEST else b""
        found.append(Record(_text(user), kind, held, _text(description), at, size))
        at += size
    return found, None


def write_records(records: Iterable[Record], *, extended: bool = False) -> bytes:
    """The records one after the other."""
    head = _EXTENDED if extended else _HEAD
    return b"".join(
        head.pack(0, r.user.encode()[:16], r.id, len(r.data), r.description.encode("latin-1", "replace")[:32])
        + r.data
        for r in records
    )


def _text(data: bytes) -> str:
    return data.partition(b"\0")[0].decode("latin-1").strip()
