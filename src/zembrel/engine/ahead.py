"""Work done one step ahead, in another thread."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Step = TypeVar("Step")
_END = object()


def ahead(steps: Iterator[Step]) -> Iterator[Step]:
    """The same steps, each made while the one before is worked on."""
    with ThreadPoolExecutor(1) as worker:
        coming = worker.submit(next, steps, _END)
        while (step := coming.result()) is not _END:
            coming = worker.submit(next, steps, _END)
            yield step  # type: ignore[misc]
