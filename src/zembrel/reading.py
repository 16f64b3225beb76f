"""What a run has read, by the identity of the files: nothing of it may be written onto. And by which ways
between coordinate reference systems.

Whoever opens a file for reading says so here, whatever option named the file; whoever puts a result in
its place asks here first. Outside a run nothing is kept.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from zembrel.errors import InputError, RefusedError

Identity = tuple[int, int]  # device and inode: the same for every spelling, link and case of a name


class Move(NamedTuple):
    """Two CRSs by name, and the coordinate operation between them in words."""

    source: str
    target: str
    how: str


class Readings:
    """The files read in the present run."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._runs = self._aside = 0
        self._read: dict[Identity, Path] = {}
        self._passed: dict[Path, None] = {}
        self._moves: dict[Move, None] = {}

    @contextmanager
    def run(self) -> Iterator[None]:
        """Keep what is read inside; a run within a run belongs to the outer one."""
        with self._lock:
            self._runs += 1
        try:
            yield
        finally:
            with self._lock:
                self._runs -= 1
                if not self._runs:
                    self._read.clear()
                    self._passed.clear()
                    self._moves.clear()

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Keep nothing of what is read inside: results that stand already are looked at, not read."""
        self._aside += 1
        try:
            yield
        finally:
            self._aside -= 1

    def note(self, path: Path) -> Path:
        """`path`, which is about to be read."""
        if self._runs and not self._aside and (identity := _identity(path)) is not None:
            with self._lock:
                self._read.setdefault(identity, path)
        return path

    def pass_over(self, paths: Iterable[Path]) -> None:
        """Files of a folder that were not taken, since others in it are what the verb is about."""
        with self._lock:
            self._passed.update(dict.fromkeys(paths))

    def move(self, source: str, target: str, how: str) -> None:
        """Coordinates are brought from one CRS to another in this way."""
        if self._runs:
            with self._lock:
                self._moves.setdefault(Move(source, target, how))

    @property
    def moves(self) -> list[Move]:
        """The ways between CRSs so far, each once."""
        with self._lock:
            return list(self._moves)

    @property
    def passed(self) -> list[Path]:
        return list(self._passed)

    @property
    def files(self) -> list[Path]:
        """What was read so far, each once, in the order of the first time."""
        with self._lock:
            return list(self._read.values())

    def refuse(self, final: Path) -> None:
        """Raise RefusedError if `final` is a file, or a folder that holds one, that this run reads."""
        identity = _identity(final) if self._runs else None
        if identity is None:
            return
        with self._lock:
            read = self._read.get(identity) or (self._inside(final) if final.is_dir() else None)
        if read is not None:
            same = "" if read == final else f": it is read as {read}"
            raise RefusedError(
                f"{final} is an input as well as a result",
                f"what this run reads would be lost{same}",
                "choose another --out",
            )

    def _inside(self, folder: Path) -> Path | None:
        whole = folder.resolve()
        return next((path for path in self._read.values() if whole in path.resolve().parents), None)


def layer_at(path: Path) -> Path:
    """`path`, which is about to be read as a layer. Raises InputError for a pipe or a device."""
    if path.exists() and not (path.is_file() or path.is_dir()):
        why = "a layer has an end, and is looked at more than once"
        raise InputError(f"{path} is a pipe or a device", why, "write what it gives into a file first")
    return readings.note(path)


def _identity(path: Path) -> Identity | None:
    try:
        facts = path.stat()
    except (OSError, ValueError):
        return None
    return facts.st_dev, facts.st_ino


readings = Readings()
