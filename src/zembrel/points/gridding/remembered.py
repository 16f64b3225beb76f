"""What was made of parts of a raster, kept for a while for the panes that share them."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any

import numpy.typing as npt

Values = npt.NDArray[Any]


class Remembered:
    """The arrays used last, as many as fit `most` bytes, but two at least; a copy remembers nothing."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._held: OrderedDict[Hashable, Values] = OrderedDict()
        self._lock = Lock()

    def __reduce__(self) -> Any:
        return Remembered, (self._most,)

    def get(self, key: Hashable, make: Callable[[], Values]) -> Values:
        """The array of `key`; `make` makes it if it is not held."""
        with self._lock:
            if (found := self._held.get(key)) is not None:
                self._held.move_to_end(key)
                return found
        found = make()
        with self._lock:
            self._held[key] = found
            while len(self._held) > 2 and sum(part.nbytes for part in self._held.values()) > self._most:
                self._held.popitem(last=False)
        return found
