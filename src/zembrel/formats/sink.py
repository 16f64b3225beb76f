"""What the engine writes into: the `Sink` protocol."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Protocol

from zembrel.grid.pane import Pane
from zembrel.raster.model import Block


class Sink(Protocol):
    """A file in the making. Calls come in this order: encode any number at once, append serially."""

    @property
    def blocks(self) -> Iterator[Pane]:
        """The panes that make up the whole, in the order the container wants them."""
        ...

    def encode(self, pane: Pane, block: Block) -> Any:
        """What `append` needs for `pane`: pure, and safe to run anywhere in parallel."""
        ...

    def append(self, pane: Pane, encoded: Any) -> None:
        """Add one encoded block, in the order of `blocks`."""
        ...

    def finish(self) -> None:
        """Complete the file."""
        ...

    def abort(self) -> None:
        """Let go of what is open; the file is not wanted any more."""
        ...
