"""Putting a TIFF together from directories and encoded segments, in the cloud-optimized order.

Header, all directories with their values, then the segments of the smallest overview, of the larger
ones, and last of the full image. Source: OGC Cloud Optimized GeoTIFF Standard 1.0 (21-026), TIFF
Revision 6.0. The 64-bit variant is taken when the file would pass 4 GiB, which is known beforehand.
"""

from __future__ import annotations

import errno
import os
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import tags

CLASSIC_LIMIT = 2**32 - 2**16
_COPY_BYTES = 8_000_000
Integers = npt.NDArray[np.int64]
Fields = dict[int, tuple[int, Any]]


@dataclass
class Image:
    """A directory to write: its fields but for the segment tables, and where its segments are now.

    source: file that holds the encoded segments at `offsets` (`counts` bytes each; 0: none stored).
    """

    fields: Fields
    source: Path
    offsets: Integers
    counts: Integers
    tiled: bool = True

    @property
    def size(self) -> int:
        return int(self.counts.sum())


def write_tiff(path: Path, images: Sequence[Image], *, order: str = "<") -> None:
    """Write the file at `path`, its segments from the last image to the first.

    order: byte order of the container, `<` or `>`; it must be that of the segments' cells.
    """
    total = sum(image.size for image in images)
    directories = sum(_directory_size(image, big=True) for image in images)
    big = total + directories > CLASSIC_LIMIT
    places, at = [], 16 if big else 8
    for image in images:
        places.append(at)
        at += _directory_size(image, big)
    moved: dict[int, Integers] = {}
    for index in reversed(range(len(images))):
        moved[index] = _placed(images[index], at)
        at += images[index].size
    with path.open("wb") as file:
        file.write(_header(places[0], big, order))
        for number, image in enumerate(images):
            after = places[number + 1] if number + 1 < len(images) else 0
            file.write(_directory(image, moved[number], places[number], after, big, order))
        for image in reversed(images):
            _copy_segments(image, file)


def _placed(image: Image, start: int) -> Integers:
    ends = np.cumsum(image.counts)
    return np.where(image.counts > 0, start + ends - image.counts, 0)


def _header(first: int, big: bool, order: str) -> bytes:
    mark = b"II" if order == "<" else b"MM"
    return mark + (
        struct.pack(order + "HHHQ", 43, 8, 0, first) if big else struct.pack(order + "HI", 42, first)
    )


def _fields(
    image: Image, offsets: Integers, big: bool, order: str = "<"
) -> list[tuple[int, int, bytes, int]]:
    """Tag, type, bytes and count of every field, in ascending order."""
    where, sizes = (
        (tags.TILE_OFFSETS, tags.TILE_BYTE_COUNTS)
        if image.tiled
        else (tags.STRIP_OFFSETS, tags.STRIP_BYTE_COUNTS)
    )
    word = tags.LONG8 if big else tags.LONG
    fields = image.fields | {where: (word, offsets), sizes: (word, image.counts)}
    packed = []
    for tag, (kind, values) in sorted(fields.items()):
        if kind == tags.ASCII:
            data = str(values).encode("utf-8") + b"\0"
            packed.append((tag, kind, data, len(data)))
        else:
            numbers = np.atleast_1d(values).astype(order + tags.FIELD_TYPES[kind])
            packed.append(
                (tag, kind, numbers.tobytes(), numbers.size // (2 if kind in tags.FRACTIONS else 1))
            )
    return packed


def _directory_size(image: Image, big: bool) -> int:
    inline, entry = (8, 20) if big else (4, 12)
    fields = _fields(image, image.offsets, big)
    outside = sum(_even(len(data)) for _, _, data, _ in fields if len(data) > inline)
    return _even((8 if big else 2) + entry * len(fields) + inline) + outside


def _even(size: int) -> int:
    return size + size % 2


def _directory(image: Image, offsets: Integers, at: int, after: int, big: bool, order: str) -> bytes:
    inline, word = (8, "Q") if big else (4, "I")
    fields = _fields(image, offsets, big, order)
    head = struct.pack(order + ("Q" if big else "H"), len(fields))
    entry_size = 20 if big else 12
    table_size = len(head) + entry_size * len(fields) + inline
    entries, outside = [], b"\0" * (table_size % 2)
    for tag, kind, data, count in fields:
        if len(data) <= inline:
            value = data.ljust(inline, b"\0")
        else:
            value = struct.pack(order + word, at + table_size + len(outside))
            outside += data + b"\0" * (len(data) % 2)
        entries.append(struct.pack(order + "HH" + word, tag, kind, count) + value)
    return head + b"".join(entries) + struct.pack(order + word, after) + outside


def _copy_segments(image: Image, file: BinaryIO) -> None:
    """Append the stored segments in their order, joining those that lie side by side."""
    stored = np.flatnonzero(image.counts)
    if not stored.size:
        return
    starts, counts = image.offsets[stored], image.counts[stored]
    breaks = np.flatnonzero(starts[1:] != starts[:-1] + counts[:-1]) + 1
    file.flush()
    with image.source.open("rb", buffering=0) as source:
        for run in np.split(np.arange(stored.size), breaks):
            start, left = int(starts[run[0]]), int(counts[run].sum())
            while left:
                done = _copy(source.fileno(), start, left, file.fileno())
                if not done:
                    raise OSError(f"{image.source} ended early")
                start, left = start + done, left - done


def _copy(source: int, start: int, count: int, target: int) -> int:
    """Append up to `count` bytes from `start` on; inside the kernel where that can. Returns how many."""
    if hasattr(os, "copy_file_range"):
        try:
            return os.copy_file_range(source, target, count, start)
        except OSError as exc:
            if exc.errno not in (errno.EXDEV, errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP):
                raise
    return os.write(target, os.pread(source, min(count, _COPY_BYTES), start))
