"""A Zarr store in a folder whose files are watched from the first time that they are read."""

from __future__ import annotations

from typing import Any

from zarr.storage import LocalStore

from zembrel.reading import readings


class WatchedStore(LocalStore):  # type: ignore[misc]
    """Every key that is asked for is a file of its own, which must stay as it is to the end of the run."""

    async def get(self, key: str, prototype: Any = None, byte_range: Any = None) -> Any:
        readings.watch(self.root / key)
        return await super().get(key, prototype, byte_range)

    async def get_partial_values(self, prototype: Any, key_ranges: Any) -> Any:
        ranges = list(key_ranges)
        for key, _ in ranges:
            readings.watch(self.root / key)
        return await super().get_partial_values(prototype, ranges)
