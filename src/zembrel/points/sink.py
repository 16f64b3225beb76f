"""What the engine writes points into: pure encoders, which run anywhere, and stores, which own the file."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Protocol, runtime_checkable

from zembrel.points.model import PointBlock


class PointEncoder(Protocol):
    """Frozen, picklable and pure: runs on any thread, process or machine."""

    def encode(self, block: PointBlock) -> Any:
        """Points, one at least, on their way into a file."""
        ...


class PointStore(Protocol):
    """Owns the file; lives where the run was started."""

    def append(self, encoded: Any) -> None:
        """What an encoder made, in order."""
        ...

    def finish(self) -> None: ...
    def abort(self) -> None: ...


@runtime_checkable
class Rearranges(Protocol):
    """A store that puts points into an order of its own once it has all of them."""

    def arranged(self) -> Iterator[tuple[Any, PointBlock]]:
        """All points again, in nodes with their keys."""
        ...

    def enter(self, key: Any, encoded: Any) -> None:
        """A node as `node_encoder` made it, in order."""
        ...

    @property
    def node_encoder(self) -> PointEncoder: ...


@dataclass(frozen=True)
class PointSink:
    """A file of points in the making: how many are encoded together, fewer only at the end, how, and where
    they go."""

    chunk: int
    encoder: PointEncoder
    store: PointStore


@dataclass(frozen=True)
class PointsAsIs:
    """An encoder for stores that take points as they are."""

    def encode(self, block: PointBlock) -> PointBlock:
        return block
