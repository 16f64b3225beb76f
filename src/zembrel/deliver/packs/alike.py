"""Pictures that a pack holds already: found by their size and how they end, and compared whole."""

from __future__ import annotations

from collections.abc import Callable

_END = 32  # bytes; with the size, since pictures of a coast may well end in the same sea


class KnownPictures:
    """Where pictures are. holds: whether just these bytes are at a place."""

    def __init__(self, holds: Callable[[int, bytes], bool]) -> None:
        self._holds = holds
        self._known: dict[bytes, int] = {}
        self._alike: dict[bytes, list[int]] = {}  # places of others of the same mark

    def place_of(self, data: bytes, following: int) -> int:
        """The place of the same picture; if there is none, `following`, where it is from now on."""
        mark = data[-_END:] + len(data).to_bytes(4, "big")
        place = self._known.setdefault(mark, following)
        if place == following or self._holds(place, data):
            return place
        others = self._alike.setdefault(mark, [])
        place = next((other for other in others if self._holds(other, data)), following)
        if place == following:
            others.append(place)
        return place
