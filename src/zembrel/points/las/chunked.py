"""The chunks of a LAZ file: from its table, or found one by one where that is missing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.points import laz
from zembrel.points.las.source import LasSource, lost, short
from zembrel.points.laz.items import POINTWISE, VARIABLE, Compression
from zembrel.points.model import Part

if TYPE_CHECKING:
    from zembrel.points.laz.chunks import ChunkCodec

_MOST = 1 << 28  # bytes of the records of a chunk: more are a lie
_MOST_OF_ALL = 1 << 31  # the same of a file without chunks
Chunks = npt.NDArray[np.int64]  # (chunks, 3): first byte, bytes, points


def with_chunks(
    source: LasSource, compression: Compression, remarks: list[str], *, salvage: bool
) -> LasSource:
    """`source` with its chunks as parts. Raises InputError for a broken file, unless it is to be salvaged."""
    source = replace(source, version=compression.items[0].version)
    codec = source.codec
    chunks = _single(source) if compression.compressor == POINTWISE else _from_table(source, compression)
    if chunks is None:
        if not salvage:
            raise InputError(
                f"{source.path} has no table of its chunks",
                "it is cut off, or was never finished",
                "fetch it again, or add --salvage to take the points that are there",
            )
        chunks = np.array([*_walked(source, codec, compression)], np.int64).reshape(-1, 3)
    partial = np.zeros(len(chunks), np.int64)
    if salvage:
        chunks, partial = _whole(source, codec, chunks)
    if partial.any():
        count = int(chunks[partial > 0, 2].sum())
        remarks.append(
            f"{count:,} points have their places, but not all of their values: the file ends among these"
        )
    there, said = int(chunks[:, 2].sum()), source.header.count
    if there < said:
        if not salvage:
            raise short(source.path, there, said)
        remarks.append(lost(there, said))
    elif there > said:
        remarks.append(f"its header tells of {said:,} points, and its chunks hold {there:,}: all are read")
    parts = tuple(Part(n, int(points)) for n, points in enumerate(chunks[:, 2]))
    cloud = replace(source.cloud, count=there)
    return replace(source, cloud=cloud, parts=parts, chunks=np.column_stack((chunks[:, :2], partial)))


def _single(source: LasSource) -> Chunks:
    """LAZ specification, compressor 1: all points are one run, without a table."""
    size = max(len(source.data) - source.header.points_at, 0)
    if source.header.count > _MOST_OF_ALL // source.cloud.layout.dtype.itemsize:
        raise InputError(
            f"{source.path} has {source.header.count:,} points in one run",
            "it has no chunks, and all of them would have to be held at once",
            "write it anew in chunks with the program that made it",
        )
    return np.array([[source.header.points_at, size, source.header.count]], np.int64)


def _from_table(source: LasSource, compression: Compression) -> Chunks | None:
    """LAZ specification, chunk table: its place stands before the points, or in the last eight bytes."""

    data, begin = source.data, source.header.points_at
    if begin + 8 > len(data):
        return None
    at = int(data[begin : begin + 8].view("<i8")[0]) if len(data) >= begin + 8 else -1
    if at == -1 and len(data) >= 8:
        at = int(np.asarray(data[-8:]).copy().view("<i8")[0])
    if not begin + 8 <= at <= len(data) - 8:
        return None
    variable = compression.chunk == VARIABLE
    most = (at - begin) // source.cloud.layout.dtype.itemsize + 1
    table = laz.chunks.read_table(data, at, variable=variable, most=most)
    if table is None or int(table[:, 1].sum()) > at - begin - 8:
        return None
    starts = begin + 8 + np.cumsum(table[:, 1]) - table[:, 1]
    points = table[:, 0] if variable else _fixed(len(table), compression.chunk, source)
    if len(points) and int(points.max()) > _MOST // source.cloud.layout.dtype.itemsize:
        raise InputError(
            f"{source.path} has chunks of {int(points.max()):,} points",
            f"their records would take more than {_MOST:,} bytes each",
            "its header or its table of chunks is broken: fetch the file again",
        )
    return np.column_stack((starts, table[:, 1], points))


def _fixed(chunks: int, size: int, source: LasSource) -> Chunks:
    """Points of chunks of one size: the last one holds the rest."""
    points = np.full(chunks, size, np.int64)
    if chunks:
        left = source.header.count - size * (chunks - 1)
        points[-1] = min(max(left, 1), size)
    return points


def _walked(source: LasSource, codec: ChunkCodec, compression: Compression) -> Iterator[tuple[int, int, int]]:
    """Chunks found one behind the other, as long as they are whole."""
    data, at, left = source.data, source.header.points_at + 8, source.header.count
    most = min(compression.chunk, _MOST // source.cloud.layout.dtype.itemsize)
    while left > 0:
        wanted = min(most, left)
        size, points = codec.size(np.asarray(data[at : at + 64 * wanted + 65536]), wanted)
        if not 0 < points <= most or at + size > len(data):
            if 0 < points <= most:
                yield at, len(data) - at, points  # the last one, as far as it goes
            return
        yield at, size, points
        at, left = at + size, left - points


def _whole(source: LasSource, codec: ChunkCodec, chunks: Chunks) -> tuple[Chunks, Chunks]:
    """Chunks with as many points as their data hold, without those that hold none; and 1 for those of whose
    points
    only some values are there."""
    kept, partial = chunks.copy(), np.zeros(len(chunks), np.int64)
    for n, (at, size, points) in enumerate(chunks.tolist()):
        data = np.asarray(source.data[at : at + size])
        kept[n, 2] = codec.decode(data, points)[1]
        if (
            kept[n, 2] < points
            and codec.layout.long
            and codec.decode(data, points, partial=True)[1] == points
        ):
            kept[n, 2], partial[n] = points, 1
    there = kept[:, 2] > 0
    return kept[there], partial[there]
