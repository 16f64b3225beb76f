"""A LAS or LAZ file that is open: its parts, and how they are read."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.handles import FileBytes, Readable, ReadsAhead
from zembrel.points import laz
from zembrel.points.las.header import LasHeader
from zembrel.points.las.vlr import Record
from zembrel.points.model import Cloud, Fields, Part, PointBlock
from zembrel.runstate import changed

if TYPE_CHECKING:
    pass

Bytes = npt.NDArray[np.uint8]
PART = 1 << 18  # points of a part of an uncompressed file


@dataclass(frozen=True, eq=False)
class LasSource:
    """A LAS or LAZ file. Parts are chunks of a LAZ file, or runs of records of a LAS file."""

    path: Readable
    header: LasHeader
    records: tuple[Record, ...]
    cloud: Cloud
    parts: tuple[Part, ...]
    chunks: npt.NDArray[np.int64] | None = (
        None  # of a LAZ file: first byte and bytes of each, and 1 if some values are lost
    )
    version: int = 3  # of the layers

    @cached_property
    def data(self) -> FileBytes:
        return FileBytes(self.path)

    def __getstate__(self) -> dict[str, object]:
        return {name: value for name, value in self.__dict__.items() if name != "data"}

    def read(self, part: Part, fields: Fields | None = None) -> PointBlock:
        """The points of a part. Raises InputError where its data end before them."""
        layout = self.cloud.layout
        if self.chunks is None:
            at = self.header.points_at + part.number * PART * layout.dtype.itemsize
            raw = np.array(self.data[at : at + part.points * layout.dtype.itemsize])
            if raw.size < part.points * layout.dtype.itemsize:
                raise changed(self.path)
            return PointBlock(raw.view(layout.dtype), layout, self.cloud.scaling)
        at, size, partial = self.chunks[part.number].tolist()
        records, there = self.codec.decode(
            self.data[at : at + size], part.points, fields, partial=bool(partial)
        )
        if there < part.points:
            raise InputError(
                f"{self.path} is broken in chunk {part.number + 1:,} of {len(self.parts):,}",
                f"it ends after {there:,} of {part.points:,} points",
                "fetch it again, or add --salvage to take the points that are there",
            )
        return PointBlock(records.reshape(-1).view(layout.dtype), layout, self.cloud.scaling)

    def look_ahead(self, parts: Iterable[int]) -> None:
        """Fetch the chunks of parts that will be read, of a file elsewhere."""
        if self.chunks is not None and isinstance(self.path, ReadsAhead):
            self.path.ahead((int(self.chunks[n][0]), int(self.chunks[n][1])) for n in parts)

    @cached_property
    def codec(self) -> laz.chunks.ChunkCodec:

        return laz.chunks.ChunkCodec(self.cloud.layout, self.version)


def short(path: Readable, there: int, said: int) -> InputError:
    """The error for a file with fewer points than its header says."""
    return InputError(
        f"{path} ends after {there:,} of {said:,} points",
        "it is cut off, or its header is wrong",
        "fetch it again, or add --salvage to take the points that are there",
    )


def lost(there: int, said: int) -> str:
    """The remark about a file of which not all can be read."""
    return f"{said - there:,} of {said:,} points are lost: the file ends before them"
