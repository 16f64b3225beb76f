"""Bytes at hand, read like those of a file."""

from __future__ import annotations

import hashlib
from pathlib import Path

from zembrel.runstate import Stamp


class HeldBytes:
    """A `ByteSource` of bytes in memory: equal ones are the same."""

    def __init__(self, data: bytes, name: str = "answer.tif") -> None:
        self.file, self._data = Path(name), data
        self._mark = hashlib.blake2b(data, digest_size=8).hexdigest()

    def __str__(self) -> str:
        return self.file.name

    def __eq__(self, other: object) -> bool:
        return isinstance(other, HeldBytes) and other._mark == self._mark

    def __hash__(self) -> int:
        return hash(self._mark)

    @property
    def stamp(self) -> Stamp:
        return Stamp(0, 0, len(self._data))

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end."""
        return self._data[offset : offset + count]
