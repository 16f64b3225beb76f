"""What this process asked of the web."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field


@dataclass
class Traffic:
    """What was asked of the web: requests, bytes that came, and sizes of the files they are of."""

    requests: int = 0
    bytes: int = 0
    sizes: dict[str, int] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def add(self, requests: int = 0, count: int = 0) -> None:
        """Count requests and bytes that came."""
        with self.lock:
            self.requests += requests
            self.bytes += count

    @property
    def facts(self) -> dict[str, int] | None:
        """Requests, bytes that came, remote files and their size; None if there were no requests."""
        if not self.requests:
            return None
        sizes = self.sizes.values()
        return {"requests": self.requests, "bytes": self.bytes, "files": len(sizes), "size": sum(sizes)}


traffic = Traffic()
