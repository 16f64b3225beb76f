"""What is known of the runs of a job, in one SQLite file beside it.

A step counts as done when its row is there, which is written after its results are in their places, and with
what they hold. A path is claimed before the job puts a file there: what a killed run has left is the job's
own, and what is not claimed is somebody else's and never replaced unasked.
"""

from __future__ import annotations

import fcntl
import json
import os
import sqlite3
import threading
from collections.abc import Collection, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zembrel.errors import InputError, RefusedError, ResourceError
from zembrel.jobs.contents import Content, Mark

_VERSION = 1
_TABLES = """
create table if not exists step (id text primary key, key text, asked text, seconds real, receipt text);
create table if not exists content (step text, made integer, path text, size integer, changed integer,
    altered integer, inode integer, checksum text);
create index if not exists content_of_step on content (step);
create table if not exists claim (path text primary key) without rowid;
"""


@dataclass(frozen=True)
class DoneStep:
    """A step that was done: what was asked, in one value and in words; its receipts as JSON; what it read and
    made."""

    key: str
    asked: Mapping[str, Any]
    seconds: float
    receipt: str
    read: tuple[Content, ...] = ()
    made: tuple[Content, ...] = ()


def state_file(job: Path) -> Path:
    """Where the state of a job is kept: `island.state.sqlite` beside `island.job.toml`."""
    return job.with_name(job.name.removesuffix(".toml").removesuffix(".job") + ".state.sqlite")


class JobState:
    """The state of one job. `lock`: whether no other run may have it meanwhile."""

    def __init__(self, path: Path, *, lock: bool = True) -> None:
        """Raises RefusedError while another run of the job has it, InputError for a file that is no state."""
        self._lock, self._turns = -1, threading.Lock()
        try:
            if lock:
                self._lock = _locked(path)
            self._base = sqlite3.connect(path, timeout=60, check_same_thread=False)
            self._base.execute("pragma journal_mode = wal")
            self._base.execute("pragma synchronous = normal")
            found = self._base.execute("pragma user_version").fetchone()[0]
            if found not in (0, _VERSION):
                raise sqlite3.DatabaseError(f"version {found}")
            self._base.executescript(_TABLES)
            self._base.execute(f"pragma user_version = {_VERSION}")
        except sqlite3.OperationalError as exc:
            raise ResourceError(
                f"{path} cannot be written", str(exc), "check its folder and the disk"
            ) from exc
        except sqlite3.DatabaseError as exc:
            remedy = "remove it: then all steps run once more, with --replace"
            raise InputError(f"{path} is no state of a job", str(exc), remedy) from exc
        self._claimed: set[str] | None = None

    def done(self) -> dict[str, DoneStep]:
        """The steps that were done, by id."""
        parts: dict[str, tuple[list[Content], list[Content]]] = {}
        for id, made, path, *mark, checksum in self._base.execute("select * from content"):
            parts.setdefault(id, ([], []))[made].append(Content(path, Mark(*mark), checksum))
        found = {}
        for id, key, asked, seconds, receipt in self._base.execute("select * from step"):
            read, wrote = parts.get(id, ([], []))
            found[id] = DoneStep(key, json.loads(asked), seconds, receipt, tuple(read), tuple(wrote))
        return found

    def enter(self, id: str, done: DoneStep) -> None:
        """A step is done."""
        rows = [
            (id, made, content.path, *content.mark, content.checksum)
            for made, contents in enumerate((done.read, done.made))
            for content in contents
        ]
        row = (id, done.key, json.dumps(done.asked), done.seconds, done.receipt)
        with self._base:
            self._base.execute("delete from content where step = ?", (id,))
            self._base.executemany("insert into content values (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            self._base.execute("insert or replace into step values (?, ?, ?, ?, ?)", row)

    def forget(self, ids: Iterable[str]) -> None:
        """These steps are to be done anew, or are no longer in the job."""
        names = [(id,) for id in ids]
        with self._base:
            self._base.executemany("delete from step where id = ?", names)
            self._base.executemany("delete from content where step = ?", names)

    @property
    def claimed(self) -> set[str]:
        """The paths that are the job's own."""
        if self._claimed is None:
            self._claimed = {path for (path,) in self._base.execute("select path from claim")}
        return self._claimed

    def claim(self, paths: Sequence[Path], *, replace: bool = False) -> None:
        """The job is about to put files there. Raises RefusedError for one that is somebody else's."""
        with self._turns:
            self._claim(paths, replace)

    def _claim(self, paths: Sequence[Path], replace: bool) -> None:
        shown = [os.path.normpath(path) for path in paths if not path.name.startswith(".")]
        new = [path for path in shown if path not in self.claimed]
        if not replace:
            check_own(new, self.claimed)
        with self._base:
            self._base.executemany("insert or ignore into claim values (?)", [(path,) for path in new])
        self.claimed.update(new)

    def close(self) -> None:
        """Let go of the state."""
        self._base.close()
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1


def check_own(paths: Iterable[str], claimed: Collection[str]) -> None:
    """Raise RefusedError for a file that is there and that the job has not made."""
    foreign = next((path for path in paths if path not in claimed and os.path.lexists(path)), None)
    if foreign is not None:
        why = "this job has not made it, and it would be overwritten"
        raise RefusedError(f"{foreign} exists", why, "add --replace, or give the step another out")


def _locked(path: Path) -> int:
    """The state file, locked for this run as long as it lives. Raises RefusedError."""
    try:
        lock = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
    except OSError as exc:
        why = (exc.strerror or str(exc)).lower()
        raise ResourceError(f"{path} cannot be written", why, "check its folder and the disk") from exc
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as exc:
        os.close(lock)
        why = f"it has {path}, and both would write the same files"
        raise RefusedError("another run of this job is under way", why, "wait for its end") from exc
    except OSError:
        with suppress(OSError):  # a disk that knows no locks
            fcntl.flock(lock, fcntl.LOCK_UN)
    return lock
