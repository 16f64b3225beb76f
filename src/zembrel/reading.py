"""What a run has read, by the identity of the files: nothing of it may be written onto, and it stays as it
is to the end. And by which ways between coordinate reference systems.

Whoever opens a file for reading says so here, whatever option named the file; whoever puts a result in
its place asks here first. Outside a run nothing is kept.
"""

from __future__ import annotations

import os
import stat
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from zembrel.errors import InputError, RefusedError

_REST = 20  # times as long as a look at all files took, no further one is taken
_ENDLESS = 1 << 62
TRUST = "add --trust-inputs if you know who made it"
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
        self._stamps: dict[Path, Stamp] = {}
        self._next_look, self._trusted, self.offline = 0.0, False, False
        self._passed: dict[Path, None] = {}
        self._moves: dict[Move, None] = {}

    @contextmanager
    def run(self) -> Iterator[None]:
        """Keep what is read inside; a run within a run belongs to the outer one.

        Raises InputError at the end if a file was changed meanwhile.
        """
        with self._lock:
            self._runs += 1
        try:
            yield
            if self._runs == 1:
                self._look()
        finally:
            with self._lock:
                self._runs -= 1
                if not self._runs:
                    for kept in (self._read, self._stamps, self._passed, self._moves):
                        kept.clear()
                    self._next_look, self._trusted, self.offline = 0.0, False, False

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Keep nothing of what is read inside: results that stand already are looked at, not read."""
        self._aside += 1
        try:
            yield
        finally:
            self._aside -= 1

    def trust(self, trusted: bool) -> None:
        """Whether the inputs of this run may be larger than what a stranger's may be."""
        self._trusted = self._trusted or trusted

    def stay_offline(self, offline: bool) -> None:
        """Whether this run may ask nothing of the web."""
        self.offline = self.offline or offline

    @property
    def trusted(self) -> bool:
        return self._trusted

    def most(self, limit: int) -> int:
        """A limit against files that are made to do harm; hardly any for inputs that are trusted."""
        return _ENDLESS if self._trusted else limit

    def note(self, path: Path) -> Path:
        """`path`, which is about to be read."""
        if self._runs and not self._aside and (facts := _facts(path)) is not None:
            with self._lock:
                if self._read.setdefault(_identity(facts), path) == path and stat.S_ISREG(facts.st_mode):
                    self._stamps.setdefault(path, stamp(facts))
        return path

    def watch(self, path: Path) -> None:
        """One of the files of a store, which is about to be read."""
        if (
            self._runs
            and not self._aside
            and path not in self._stamps
            and (facts := _facts(path)) is not None
        ):
            with self._lock:
                self._stamps.setdefault(path, stamp(facts))

    def check_unchanged(self) -> None:
        """Raise InputError if a file has changed since it was first read. Of many results not each one asks
        the system anew: looking takes a twentieth of the time at most, and the end of the run looks again.
        """
        with self._lock:
            due = time.monotonic() >= self._next_look
        if due:
            self._look()

    def _look(self) -> None:
        begun = time.monotonic()
        with self._lock:
            stamps = list(self._stamps.items())
        for path, then in stamps:
            facts = _facts(path)
            if facts is not None and stamp(facts) != then:
                raise changed(path)
        now = time.monotonic()
        self._next_look = now + _REST * (now - begun)

    def mended(self, path: Path) -> None:
        """The file at `path` is about to be changed by this run itself, since that is the task."""
        facts = _facts(path)
        with self._lock:
            named = self._read.get(_identity(facts)) if facts is not None else None
            if named is not None:
                self._stamps.pop(named, None)

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
        facts = _facts(final) if self._runs else None
        if facts is None:
            return
        with self._lock:
            read = self._read.get(_identity(facts)) or (self._inside(final) if final.is_dir() else None)
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


def _facts(path: Path) -> os.stat_result | None:
    try:
        return path.stat()
    except (OSError, ValueError):
        return None


def _identity(facts: os.stat_result) -> Identity:
    return facts.st_dev, facts.st_ino


readings = Readings()
