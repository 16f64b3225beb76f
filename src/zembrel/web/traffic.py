"""Requests to the web and bytes that came, counted for each run."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field


@dataclass
class Count:
    """Requests, bytes that came, and sizes of the files they are of."""

    requests: int = 0
    bytes: int = 0
    sizes: dict[str, int] = field(default_factory=dict)

    @property
    def facts(self) -> dict[str, int] | None:
        """Requests, bytes that came, remote files and their size; None if there were no requests."""
        if not self.requests:
            return None
        sizes = self.sizes.values()
        return {"requests": self.requests, "bytes": self.bytes, "files": len(sizes), "size": sum(sizes)}


class Traffic:
    """Counts for all runs that are under way."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._counts: list[Count] = []

    @contextmanager
    def counted(self) -> Iterator[Count]:
        """Count the requests made inside."""
        count = Count()
        with self._lock:
            self._counts.append(count)
        try:
            yield count
        finally:
            with self._lock:
                self._counts = [other for other in self._counts if other is not count]

    def add(self, requests: int = 0, count: int = 0) -> None:
        """Count requests and bytes that came."""
        with self._lock:
            for one in self._counts:
                one.requests += requests
                one.bytes += count

    def meet(self, name: str, size: int) -> None:
        """Note the size of a remote file."""
        with self._lock:
            for one in self._counts:
                one.sizes[name] = size


traffic = Traffic()
