"""Pictures that a pack holds already: found by how they end, and compared whole."""

from __future__ import annotations

from collections.abc import Callable

_END = 32  # bytes at the end of a picture: hardly ever the same for two


class KnownPictures:
    """Where pictures are. holds: whether just these bytes are at a place."""

    def __init__(self, holds: Callable[[int, bytes], bool]) -> None:
        self._holds = holds
        self._known: dict[bytes, int] = {}
        self._alike: dict[bytes, list[int]] = {}  # places of others that end like a known one

    def place_of(self, data: bytes, following: int) -> int:
        """The place of the same picture; if there is none, `following`, where it is from now on."""
        end = data[-_END:]
        place = self._known.setdefault(end, following)
        if place == following or self._holds(place, data):
            return place
        others = self._alike.setdefault(end, [])
        place = next((other for other in others if self._holds(other, data)), following)
        if place == following:
            others.append(place)
        return place
