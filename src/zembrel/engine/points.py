"""The one loop over points: parts are read and changed in parallel, put into pieces, encoded, written in
order."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, NamedTuple, Protocol, TypeVar

import numpy as np

from zembrel.engine.executor import Threads
from zembrel.engine.run import Means, processors
from zembrel.points.model import Part, PointBlock, PointSource
from zembrel.progress import Progress

Result = TypeVar("Result")


class Piece(NamedTuple):
    """A part of one of several clouds, and the number of its first point in that cloud."""

    cloud: int
    source: PointSource
    part: Part
    first: int


class Writer(Protocol):
    """Where points go."""

    @property
    def chunk(self) -> int: ...
    def encode(self, block: PointBlock) -> Any: ...
    def append(self, encoded: Any) -> None: ...
    def finish(self) -> Any: ...
    def abort(self) -> None: ...


def pieces_of(sources: Sequence[PointSource]) -> list[Piece]:
    """All parts of all clouds, in order."""
    made = []
    for number, source in enumerate(sources):
        first = 0
        for part in source.parts:
            made.append(Piece(number, source, part, first))
            first += part.points
    return made


def each(pieces: Sequence[Piece], work: Callable[[Piece], Result], means: Means) -> Iterator[Result]:
    """What `work` makes of each piece, in order, a bounded number of them at a time."""
    threads = _threads(means)
    all_points, done = sum(piece.part.points for piece in pieces), 0
    for number, (piece, result) in enumerate(zip(pieces, threads.map(work, pieces), strict=True), 1):
        yield result
        done += piece.part.points
        means.tick(Progress(number, len(pieces), done, all_points))


def flow(blocks: Iterable[PointBlock], writer: Writer, means: Means) -> int:
    """Write all points of `blocks`, in order, and finish. Returns how many. What stops it aborts the
    writer."""
    count = 0
    try:
        for block, encoded in _threads(means).map(
            lambda b: (b, writer.encode(b)), rechunked(blocks, writer.chunk)
        ):
            writer.append(encoded)
            count += len(block)
        writer.finish()
    except BaseException:
        writer.abort()
        raise
    return count


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


def _threads(means: Means) -> Threads:
    workers = means.workers or processors()
    return Threads(workers, workers + 2)
