"""What a run has read, by the identity of the files: nothing of it may be written onto, and it stays as it
is to the end. By which ways between coordinate reference systems; and what it has put in its place.

Whoever opens a file for reading says so here, whatever option named the file; whoever puts a result in
its place asks here first. Outside a run nothing is kept.
"""

from __future__ import annotations

import os
import stat
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

from zembrel.errors import InputError, RefusedError
from zembrel.runstate import Act, Identity, Move, RunState, Stamp, Watcher, changed, stamp

Value = TypeVar("Value")
_REST = 20  # times as long as a look at all files took, no further one is taken
_ENDLESS = 1 << 62
TRUST = "add --trust-inputs if you know who made it"


class Readings:
    """The files read in the present run."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._now = RunState()
        self.turn = 0  # the number of the run
        self.watcher: Watcher | None = None

    @contextmanager
    def run(self) -> Iterator[None]:
        """Keep what is read inside; a run within a run belongs to the outer one.

        Raises InputError at the end if a file was changed meanwhile.
        """
        with self._lock:
            self.turn += not self._now.runs
            self._now.runs += 1
        try:
            yield
            if self._now.runs == 1:
                self._look()
        finally:
            with self._lock:
                self._now.runs -= 1
                if not self._now.runs:
                    self._now = RunState()

    @contextmanager
    def apart(self) -> Iterator[None]:
        """A run within a run, but one of its own: what it reads and writes is nothing to the outer one."""
        outer = self._now
        self._now = RunState(trusted=outer.trusted, offline=outer.offline)
        try:
            with self.run():
                yield
        finally:
            self._now = outer

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Keep nothing of what is read inside: results that stand already are looked at, not read."""
        self._now.aside += 1
        try:
            yield
        finally:
            self._now.aside -= 1

    def trust(self, trusted: bool) -> None:
        """Whether the inputs of this run may be larger than what a stranger's may be."""
        self._now.trusted = self._now.trusted or trusted

    def stay_offline(self, offline: bool) -> None:
        """Whether this run may ask nothing of the web."""
        self._now.offline = self._now.offline or offline

    @property
    def trusted(self) -> bool:
        """Whether inputs may be larger than what a stranger's may be."""
        return self._now.trusted

    @property
    def offline(self) -> bool:
        """Whether nothing may be asked of the web."""
        return self._now.offline

    @property
    def newest(self) -> float | None:
        """Return when the newest input was modified, in seconds since 1970; None without inputs."""
        with self._lock:
            stamps = self._now.stamps
            found = [stamps[path].changed for path in self._now.read.values() if path in stamps]
        return max(found) / 1e9 if found else None

    def most(self, limit: int) -> int:
        """A limit against files that are made to do harm; hardly any for inputs that are trusted."""
        return _ENDLESS if self._now.trusted else limit

    def note(self, path: Path) -> Path:
        """`path`, which is about to be read."""
        if self._now.runs and not self._now.aside and (facts := _facts(path)) is not None:
            with self._lock:
                if self._now.read.setdefault(_identity(facts), path) == path and stat.S_ISREG(facts.st_mode):
                    self._now.stamps.setdefault(path, stamp(facts))
        return path

    def watch(self, path: Path) -> None:
        """One of the files of a store, which is about to be read."""
        if (
            self._now.runs
            and not self._now.aside
            and path not in self._now.stamps
            and (facts := _facts(path)) is not None
        ):
            with self._lock:
                self._now.stamps.setdefault(path, stamp(facts))

    def check_unchanged(self) -> None:
        """Raise InputError if a file has changed since it was first read. Of many results not each one asks
        the system anew: looking takes a twentieth of the time at most, and the end of the run looks again.
        """
        with self._lock:
            due = time.monotonic() >= self._now.next_look
        if due:
            self._look()

    def _look(self) -> None:
        begun = time.monotonic()
        with self._lock:
            stamps = list(self._now.stamps.items())
        for path, then in stamps:
            facts = _facts(path)
            if facts is not None and stamp(facts) != then:
                raise changed(path)
        now = time.monotonic()
        self._now.next_look = now + _REST * (now - begun)

    def owns(self, folder: Path) -> bool:
        """Return True if whoever watches over results may replace a folder with all that is in it."""
        return self.watcher is not None and self.watcher.owns(folder)

    def write(self, finals: Sequence[Path]) -> None:
        """Results are about to be put in their places. Raises what whoever watches over them raises."""
        if self.watcher is not None:
            self.watcher.claim(finals)
        if self._now.runs:
            with self._lock:
                self._now.written.update(dict.fromkeys(finals))

    def mended(self, path: Path) -> None:
        """The file at `path` is about to be changed by this run itself, since that is the task."""
        facts = _facts(path)
        with self._lock:
            named = self._now.read.get(_identity(facts)) if facts is not None else None
            if named is not None:
                self._now.stamps.pop(named, None)

    def pass_over(self, paths: Iterable[Path]) -> None:
        """Files of a folder that were not taken, since others in it are what the verb is about."""
        with self._lock:
            self._now.passed.update(dict.fromkeys(paths))

    def move(self, source: str, target: str, how: str) -> None:
        """Coordinates are brought from one CRS to another in this way."""
        if self._now.runs:
            with self._lock:
                self._now.moves.setdefault(Move(source, target, how))

    @property
    def moves(self) -> list[Move]:
        """The ways between CRSs so far, each once."""
        with self._lock:
            return list(self._now.moves)

    @property
    def written(self) -> list[Path]:
        """The results so far, files and folders, in the order in which they were put in their places."""
        with self._lock:
            return list(self._now.written)

    @property
    def passed(self) -> list[Path]:
        return list(self._now.passed)

    def act(self, verb: str, version: str, options: Mapping[str, Any]) -> None:
        """A verb begins; of several in one run each goes on from what the one before has made."""
        with self._lock:
            self._now.acts.append(Act(verb, version, options, len(self._now.read)))

    @property
    def acts(self) -> list[Act]:
        """The verbs of this run so far."""
        return self._now.acts

    @property
    def earlier(self) -> dict[Path, Sequence[Mapping[str, Any]]]:
        """What files that are read tell of how they came about."""
        return self._now.earlier

    @property
    def told(self) -> str | None:
        """How the results of this run come about, if whoever began it elsewhere has said so."""
        return self._now.told

    def tell(self, provenance: str | None) -> None:
        """Results come about as is said: this is a part of a run that was begun elsewhere."""
        self._now.told = provenance

    @contextmanager
    def about(self, path: Path, among: Iterable[Path]) -> Iterator[None]:
        """A result of `path` alone, of several inputs of which each has its own."""
        before, self._now.others = self._now.others, frozenset(among) - {path}
        try:
            yield
        finally:
            self._now.others = before

    @property
    def own_files(self) -> list[Path]:
        """What was read so far for the present result."""
        others = set(map(_stem, self._now.others))
        return [path for path in self.files if _stem(path) not in others] if others else self.files

    def kept(self, name: str, make: Callable[[], Value]) -> Value:
        """What `make` makes of the present state of this run, made anew only if that has changed."""
        now = self._now
        state = (len(now.read), len(now.acts), len(now.moves), len(now.earlier), now.others)
        if name not in now.kept or now.kept[name][0] != state:
            now.kept[name] = state, make()
        made: Value = now.kept[name][1]
        return made

    @property
    def stamps(self) -> dict[Path, Stamp]:
        """What was read so far, as it was when it was first looked at."""
        with self._lock:
            return dict(self._now.stamps)

    @property
    def files(self) -> list[Path]:
        """What was read so far, each once, in the order of the first time."""
        with self._lock:
            return list(self._now.read.values())

    def refuse(self, final: Path) -> None:
        """Raise RefusedError if `final` is a file, or a folder that holds one, that this run reads."""
        facts = _facts(final) if self._now.runs else None
        if facts is None:
            return
        with self._lock:
            read = self._now.read.get(_identity(facts)) or (self._inside(final) if final.is_dir() else None)
        if read is not None:
            same = "" if read == final else f": it is read as {read}"
            raise RefusedError(
                f"{final} is an input as well as a result",
                f"what this run reads would be lost{same}",
                "choose another --out",
            )

    def _inside(self, folder: Path) -> Path | None:
        whole = folder.resolve()
        return next((path for path in self._now.read.values() if whole in path.resolve().parents), None)


@lru_cache(maxsize=1 << 16)
def _stem(path: Path) -> Path:
    """What a file has in common with those beside it."""
    return path.with_suffix("")


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
