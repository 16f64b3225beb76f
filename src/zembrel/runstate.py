"""What is kept of a run while it lasts: states of files, verbs, and ways between two CRSs."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from zembrel.errors import InputError

Identity = tuple[int, int]  # device and inode: the same for every spelling, link and case of a name


class Stamp(NamedTuple):
    """What tells one state of a file from another: inode, time of the last change, size."""

    inode: int
    changed: int
    size: int


def stamp(facts: os.stat_result) -> Stamp:
    """The stamp of a file of which the system says `facts`."""
    return Stamp(facts.st_ino, facts.st_mtime_ns, facts.st_size)


def changed(path: object) -> InputError:
    """The error for an input that is no longer what it was when the run began to read it."""
    return InputError(
        f"{path} was changed while it was read",
        "the result would be part old, part new",
        "start again once it is complete",
    )


class Act(NamedTuple):
    """What a run is about: a verb, the version of the program, the options that were said, and how many files
    were read before."""

    verb: str
    version: str
    options: Mapping[str, Any]
    first: int


class Move(NamedTuple):
    """Two CRSs by name, and the coordinate operation between them in words."""

    source: str
    target: str
    how: str


class Watcher(Protocol):
    """Watches over results: told of files before they are put in their places."""

    def claim(self, finals: Sequence[Path]) -> None: ...
    def owns(self, folder: Path) -> bool: ...


@dataclass
class RunState:
    """What is kept of a run: how deep runs are nested, files by identity and by path, results, and ways."""

    runs: int = 0
    aside: int = 0
    read: dict[Identity, Path] = field(default_factory=dict)
    stamps: dict[Path, Stamp] = field(default_factory=dict)
    passed: dict[Path, None] = field(default_factory=dict)
    moves: dict[Move, None] = field(default_factory=dict)
    written: dict[Path, None] = field(default_factory=dict)
    acts: list[Act] = field(default_factory=list)
    earlier: dict[Path, Sequence[Mapping[str, Any]]] = field(default_factory=dict)
    told: str | None = None
    others: frozenset[Path] = frozenset()
    kept: dict[str, tuple[object, Any]] = field(default_factory=dict)
    next_look: float = 0.0
    trusted: bool = False
    offline: bool = False
