"""Decoded blocks of the files at hand, kept while the budget allows, each decoded once at a time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from concurrent.futures import Future
from typing import Any, Protocol, TypeVar

import numpy as np


class _Sized(Protocol):
    @property
    def nbytes(self) -> int: ...


Decoded = TypeVar("Decoded", bound=_Sized)
DEFAULT_BUDGET = 128_000_000  # bytes


class BlockCache:
    """Least recently used blocks go first, the last one stays; two threads that want one block decode it
    once."""

    def __init__(self, budget: int = DEFAULT_BUDGET) -> None:
        self._budget = budget
        self._lock = threading.Lock()
        self._held: OrderedDict[Hashable, Any] = OrderedDict()
        self._size = 0
        self._coming: dict[Hashable, Future[Any]] = {}

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._held

    def get(self, key: Hashable, decode: Callable[[], Decoded]) -> Decoded:
        """The block of `key`, read-only; `decode` makes it if it is not held."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                held: Decoded = self._held[key]
                return held
            future = self._coming.get(key)
            mine = future is None
            if future is None:
                future = self._coming[key] = Future()
        if mine:
            self._make(key, decode, future)
        made: Decoded = future.result()
        return made

    def _make(self, key: Hashable, decode: Callable[[], Any], future: Future[Any]) -> None:
        try:
            block = decode()
            if isinstance(block, np.ndarray):
                block.setflags(write=False)
        except BaseException as exc:
            with self._lock:
                del self._coming[key]
            future.set_exception(exc)
            return
        with self._lock:
            del self._coming[key]
            self._held[key] = block
            self._size += block.nbytes
            self._shrink()
        future.set_result(block)

    def _shrink(self) -> None:
        while self._size > self._budget and len(self._held) > 1:  # a file decoded whole is not decoded again
            _, block = self._held.popitem(last=False)
            self._size -= block.nbytes

    def set_budget(self, budget: int) -> None:
        """Hold at most `budget` bytes from now on."""
        with self._lock:
            self._budget = budget
            self._shrink()


block_cache = BlockCache()
