"""What the engine writes into: pure encoders, which run anywhere, and stores, which own the file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO, Protocol

from zembrel.grid.pane import Pane
from zembrel.raster.model import Block


class Encoder(Protocol):
    """Frozen, picklable and pure: runs on any thread, process or machine."""

    def encode(self, pane: Pane, block: Block) -> Any:
        """What the store needs for `pane`."""
        ...


class Store(Protocol):
    """Owns a file, a folder or a database; lives where the run was started."""

    def append(self, key: Any, encoded: Any) -> None:
        """Add one entry; of a raster the key is its pane. Serial, in the order of the plan."""
        ...

    def finish(self) -> None:
        """Complete what was begun."""
        ...

    def abort(self) -> None:
        """Let go of what is open; nothing of it is wanted any more."""
        ...


@dataclass(frozen=True)
class Sink:
    """A raster file in the making: the panes that make up the whole, in the order that the store wants them,
    and how they are encoded and kept.

    how: what was chosen of the ways to do that, for the receipt.
    """

    blocks: tuple[Pane, ...]
    encoder: Encoder
    store: Store
    how: tuple[str, ...] = ()


@dataclass(frozen=True)
class BlocksAsIs:
    """An encoder for stores that take blocks as they are."""

    def encode(self, pane: Pane, block: Block) -> Block:
        return block


class FileStore:
    """A store of bytes, one entry after the other behind a head."""

    def __init__(self, path: Path, head: bytes = b"") -> None:
        self.file: BinaryIO = path.open("wb")
        self.file.write(head)

    def append(self, key: Any, encoded: bytes) -> None:
        self.file.write(encoded)

    def finish(self) -> None:
        self.file.close()

    def abort(self) -> None:
        self.file.close()
