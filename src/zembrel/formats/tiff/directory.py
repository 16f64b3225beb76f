"""The TIFF container: header, chain of directories and the values of their entries.

Source: TIFF Revision 6.0, sections 2 and 8; the 64-bit variant ("BigTIFF") as publicly described.
Nothing a file says about itself is believed before it is held against the size of the file.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.formats.tiff import tags
from zembrel.handles import Readable, file_handles
from zembrel.runstate import Stamp

MOST_DIRECTORIES = 10_000
MOST_ENTRIES = 4_096


class TagEntry(NamedTuple):
    """One field of a directory: its type, how many values and where in the file they are."""

    type: int
    many: int
    offset: int


@dataclass(frozen=True)
class Container:
    """A TIFF file: path, stamp, byte order (`<` or `>`) and whether offsets have 64 bits."""

    path: Readable
    stamp: Stamp
    order: str
    big: bool

    @property
    def size(self) -> int:
        return self.stamp.size

    def read(self, offset: int, count: int, part: str) -> bytes:
        """Exactly `count` bytes. Raises InputError naming the `part` if the file ends before."""
        inside = offset >= 0 and 0 <= count <= self.size - offset  # before room is made for what is claimed
        data = file_handles.read(self.path, offset, count, self.stamp) if inside else b""
        if not inside or len(data) != count:
            raise broken(self.path, f"its {part} at byte {offset:,} runs past the end at {self.size:,}")
        return data


@dataclass(frozen=True)
class Directory:
    """One image of the file: its entries by tag number."""

    container: Container
    number: int
    entries: dict[int, TagEntry]

    def __hash__(self) -> int:
        return hash((self.container, self.number))

    def __contains__(self, tag: int) -> bool:
        return tag in self.entries

    def values(self, tag: int) -> npt.NDArray[Any]:
        """Numbers of `tag` in native byte order; empty if it is absent. Raises InputError."""
        entry = self.entries.get(tag)
        if entry is None:
            return np.empty(0, np.int64)
        code = np.dtype(self.container.order + tags.FIELD_TYPES[entry.type])
        count = entry.many * (2 if entry.type in tags.FRACTIONS else 1)
        data = self.container.read(entry.offset, count * code.itemsize, f"tag {tag}")
        return np.frombuffer(data, code).astype(code.newbyteorder("="))

    def number_of(self, tag: int, default: int | None = None) -> int:
        """The first number of `tag`. Raises InputError if it is absent and there is no default."""
        if tag in self.entries and self.entries[tag].many:
            value = self.values(tag)[0]
            if np.isfinite(value):
                return int(value)
            raise broken(self.container.path, f"tag {tag} of directory {self.number} is {value}")
        if default is None:
            raise broken(self.container.path, f"directory {self.number} lacks the required tag {tag}")
        return default

    def text(self, tag: int) -> str:
        """The text of `tag` up to its first NUL, empty if it is absent."""
        return self.values(tag).tobytes().split(b"\0")[0].decode("utf-8", "replace")


def read_directories(path: Readable) -> list[Directory]:
    """All directories of the main chain of the TIFF at `path`. Raises InputError as `read_chain` does."""
    return read_chain(path)[0]


def read_chain(path: Readable) -> tuple[list[Directory], tuple[str, ...]]:
    """The same, and a remark if the chain returns to itself: each directory is taken once.

    Raises InputError if the file is not a TIFF, or is cut short.
    """
    container, offset = _open(path)
    directories: list[Directory] = []
    seen: set[int] = set()
    while offset:
        if offset in seen:
            return directories, (f"its chain of images loops back: the {len(seen)} before are read",)
        if len(directories) >= MOST_DIRECTORIES:
            raise broken(path, f"it has more than {MOST_DIRECTORIES:,} directories")
        seen.add(offset)
        entries, offset = _read_directory(container, offset)
        directories.append(Directory(container, len(directories), entries))
    if not directories:
        raise broken(path, "it has no image")
    return directories, ()


def sub_directories(directory: Directory) -> list[Directory]:
    """The directories that one names as parts of itself (TIFF Technical Note 1). Raises InputError."""
    found = []
    for offset in directory.values(tags.SUB_DIRECTORIES).tolist()[:MOST_DIRECTORIES]:
        entries, _ = _read_directory(directory.container, int(offset))
        found.append(Directory(directory.container, -int(offset), entries))
    return found


def broken(path: Readable, why: str) -> InputError:
    """The error for a file that does not hold what it says."""
    return InputError(f"{path} is broken", why, "get the file again, or leave it out")


def _open(path: Readable) -> tuple[Container, int]:
    stamp = file_handles.renew(path)
    head = file_handles.read(path, 0, 16)
    order = {b"II": "<", b"MM": ">"}.get(head[:2])
    version = struct.unpack(order + "H", head[2:4])[0] if order and len(head) >= 4 else 0
    if order is None or version not in (42, 43):
        raise InputError(
            f"{path} is not a TIFF",
            f"it begins with {head[:4]!r}",
            "check what the file is; the name may be wrong",
        )
    if version == 42 and len(head) >= 8:
        return Container(path, stamp, order, False), struct.unpack(order + "I", head[4:8])[0]
    if version == 43 and len(head) == 16 and struct.unpack(order + "HH", head[4:8]) == (8, 0):
        return Container(path, stamp, order, True), struct.unpack(order + "Q", head[8:16])[0]
    raise broken(path, "its header is cut short")


def _read_directory(container: Container, offset: int) -> tuple[dict[int, TagEntry], int]:
    word, length, inline = ("Q", 20, 8) if container.big else ("I", 12, 4)
    count_code = container.order + ("Q" if container.big else "H")
    head = struct.calcsize(count_code)
    (count,) = struct.unpack(count_code, container.read(offset, head, "directory"))
    if not 0 < count <= MOST_ENTRIES:
        raise broken(container.path, f"its directory at byte {offset:,} claims {count:,} entries")
    data = container.read(offset + head, count * length + inline, "directory")
    entries: dict[int, TagEntry] = {}
    for n in range(count):
        tag, kind, values = struct.unpack_from(container.order + "HH" + word, data, n * length)
        if kind not in tags.FIELD_TYPES:
            continue
        width = np.dtype(tags.FIELD_TYPES[kind]).itemsize * values * (2 if kind in tags.FRACTIONS else 1)
        at = offset + head + n * length + length - inline
        if width > inline:
            (at,) = struct.unpack_from(container.order + word, data, n * length + length - inline)
            if at + width > container.size:
                raise broken(
                    container.path, f"tag {tag} claims {values:,} values at byte {at:,}, past its end"
                )
        entries[tag] = TagEntry(kind, values, at)
    return entries, struct.unpack_from(container.order + word, data, count * length)[0]
