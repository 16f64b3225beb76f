"""Blocks of a raster pulled into a sink, or shown to observers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

from zembrel.engine.limits import Limits, each
from zembrel.formats.sink import Encoder, Sink
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block, Raster

Result = TypeVar("Result")


class Observer(Protocol):
    """Learns from blocks in passing: `look` in parallel, without changing anything, `note` in order."""

    def look(self, pane: Pane, block: Block) -> Any: ...
    def note(self, seen: Any) -> None: ...


def run(view: Raster, sink: Sink, limits: Limits, observers: Sequence[Observer] = ()) -> None:
    """Pull every block of `view` into `sink`, in its order, and finish it.

    Whatever stops the run, its store is aborted and the error goes on.
    """
    store, task = sink.store, _Encoded(view, sink.encoder, tuple(observer.look for observer in observers))
    try:
        for pane, (data, seen) in zip(sink.blocks, over_panes(view, sink.blocks, task, limits), strict=True):
            store.append(pane, data)
            for observer, fact in zip(observers, seen, strict=True):
                observer.note(fact)
        store.finish()
    except BaseException:
        store.abort()
        raise


def observe(view: Raster, panes: Sequence[Pane], observers: Sequence[Observer], limits: Limits) -> None:
    """Show every block of `view` to `observers`; nothing is written."""
    task = _Looked(view, tuple(observer.look for observer in observers))
    for seen in over_panes(view, panes, task, limits):
        for observer, fact in zip(observers, seen, strict=True):
            observer.note(fact)


def over_panes(
    view: Raster, panes: Sequence[Pane], task: Callable[[Pane], Result], limits: Limits
) -> Iterator[Result]:
    """What `task`, which looks at cells of `view`, makes of each pane, in order."""
    cell_bytes = sum(band.dtype.itemsize for band in view.bands)
    largest = max((pane.size for pane in panes), default=0) * cell_bytes
    return each(panes, task, limits, size=lambda pane: pane.size, item_bytes=largest)


@dataclass(frozen=True, eq=False)
class _Looked:
    view: Raster
    looks: tuple[Callable[[Pane, Block], Any], ...]

    def __call__(self, pane: Pane) -> list[Any]:
        block = self.view.cells(pane)
        return [look(pane, block) for look in self.looks]


@dataclass(frozen=True, eq=False)
class _Encoded:
    view: Raster
    encoder: Encoder
    looks: tuple[Callable[[Pane, Block], Any], ...]

    def __call__(self, pane: Pane) -> tuple[Any, list[Any]]:
        block = self.view.cells(pane)
        seen = [look(pane, block) for look in self.looks]
        return self.encoder.encode(pane, block), seen
