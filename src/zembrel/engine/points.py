"""Passes over points: parts are read and changed in parallel, put into pieces, encoded, written in order."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Any, Generic, NamedTuple, TypeVar

import numpy as np

from zembrel.engine.limits import Limits, each
from zembrel.points.model import Part, PointBlock, PointSource
from zembrel.points.sink import PointEncoder, PointSink, Rearranges

Result = TypeVar("Result")
_NODE = 200_000  # points of a node of an octree, at most


class Piece(NamedTuple):
    """A part of one of several clouds, and the number of its first point in that cloud."""

    cloud: int
    source: PointSource
    part: Part
    first: int


def pieces_of(sources: Sequence[PointSource]) -> list[Piece]:
    """All parts of all clouds, in order."""
    made = []
    for number, source in enumerate(sources):
        first = 0
        for part in source.parts:
            made.append(Piece(number, source, part, first))
            first += part.points
    return made


def over_pieces(pieces: Sequence[Piece], task: Callable[[Piece], Result], limits: Limits) -> Iterator[Result]:
    """What `task` makes of each piece, in order, a bounded number of them at a time."""
    sizes = [piece.part.points for piece in pieces]
    widest = max((piece.source.cloud.layout.dtype.itemsize for piece in pieces), default=0)
    item_bytes = max(sizes, default=0) * widest
    numbered = _Numbered(tuple(pieces), task)
    return each(range(len(pieces)), numbered, limits, size=sizes.__getitem__, item_bytes=item_bytes)


def flow(blocks: Iterable[PointBlock], sink: PointSink, limits: Limits) -> int:
    """Write all points of `blocks`, in order, and finish. Returns how many. What stops it aborts the
    store."""
    count, store = 0, sink.store
    try:
        chunks = rechunked(blocks, sink.chunk)
        for points, encoded in _encoded(((len(b), b) for b in chunks), sink.encoder, sink.chunk, limits):
            store.append(encoded)
            count += points
        if isinstance(store, Rearranges):
            for key, encoded in _encoded(store.arranged(), store.node_encoder, _NODE, limits):
                store.enter(key, encoded)
        store.finish()
    except BaseException:
        store.abort()
        raise
    return count


def _encoded(
    blocks: Iterator[tuple[Any, PointBlock]], encoder: PointEncoder, most: int, limits: Limits
) -> Iterator[tuple[Any, Any]]:
    """Keys, and what `encoder` makes of the blocks, of `most` points each at most."""
    first = next(blocks, None)
    if first is None:
        return
    executor = limits.executor_for(most * first[1].layout.dtype.itemsize)
    yield from executor.map(_EncodedPoints(encoder), chain([first], blocks))


def rechunked(blocks: Iterable[PointBlock], size: int) -> Iterator[PointBlock]:
    """The same points in pieces of `size`, but for the last one."""
    waiting: list[PointBlock] = []
    held = 0
    for block in blocks:
        at = 0
        while held + len(block) - at >= size:
            taken = block.take(slice(at, at + size - held))
            at += len(taken)
            yield _joined([*waiting, taken])
            waiting, held = [], 0
        if at < len(block):
            waiting.append(block.take(slice(at, None)))
            held += len(block) - at
    if held:
        yield _joined(waiting)


def _joined(blocks: Sequence[PointBlock]) -> PointBlock:
    if len(blocks) == 1:
        return blocks[0]
    first = blocks[0]
    return PointBlock(np.concatenate([b.records for b in blocks]), first.layout, first.scaling)


@dataclass(frozen=True, eq=False)
class _Numbered(Generic[Result]):
    """A task on pieces that are named by their numbers, so that clouds travel once."""

    pieces: tuple[Piece, ...]
    task: Callable[[Piece], Result]

    def __call__(self, number: int) -> Result:
        return self.task(self.pieces[number])


@dataclass(frozen=True)
class _EncodedPoints:
    encoder: PointEncoder

    def __call__(self, keyed: tuple[Any, PointBlock]) -> tuple[Any, Any]:
        key, block = keyed
        return key, self.encoder.encode(block)
