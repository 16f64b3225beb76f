"""What a device says of a pack, and what it shows of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

SCREEN = (1280, 800)


class RejectedError(Exception):
    """The device does not take the pack; the text says why."""


@dataclass(frozen=True)
class Verdict:
    """Reasons against a pack, none if it is accepted; facts: what the device found; screen: what it shows,
    (rows, columns, 3) bytes, if anything."""

    reasons: tuple[str, ...] = ()
    facts: dict[str, Any] = field(default_factory=dict)
    screen: Any = None

    @property
    def accepted(self) -> bool:
        return not self.reasons


def need(holds: bool, why: str) -> None:
    """Raises RejectedError with `why` unless it holds."""
    if not holds:
        raise RejectedError(why)
