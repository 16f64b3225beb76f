"""The SQLite file of a job's state: locked by one run, and sound or told to be damaged."""

from __future__ import annotations

import fcntl
import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from zembrel.errors import InputError, RefusedError, ResourceError

_VERSIONS = (0, 1, 2)  # of files that can be read; 1 has no results that are left over
_TABLES = """
create table if not exists step (id text primary key, key text, asked text, seconds real, receipt text,
    variant text default '');
create table if not exists content (step text, made integer, path text, size integer, changed integer,
    altered integer, inode integer, checksum text);
create index if not exists content_of_step on content (step);
create table if not exists claim (path text primary key) without rowid;
create table if not exists left_over (path text primary key, variant text, size integer, changed integer,
    altered integer, inode integer, checksum text) without rowid;
create table if not exists writer (path text primary key, step text) without rowid;
"""
_NAMES = {
    "step": "id, key, asked, seconds, receipt, variant", "claim": "path", "writer": "path, step",
    "content": "step, made, path, size, changed, altered, inode, checksum",
    "left_over": "path, variant, size, changed, altered, inode, checksum",
}  # fmt: skip


class StateFile:
    """An open state file. `base` is its connection; every use of it is inside `sound`."""

    def __init__(self, path: Path, *, lock: bool) -> None:
        """Raises RefusedError while another run has the file, InputError for a damaged one."""
        self.path = path
        self._lock = _locked(path) if lock else -1
        self.base = sqlite3.connect(":memory:")  # until the file is open
        try:
            with self.sound():
                self.base = sqlite3.connect(path, timeout=60, check_same_thread=False)
                self.base.execute("pragma journal_mode = wal")
                self.base.execute("pragma synchronous = normal")
                self._begin()
                if lock:
                    self.base.execute("delete from writer")  # of the run before this one
                    self.base.commit()
        except BaseException:
            self.close()
            raise

    def _begin(self) -> None:
        """Make what is missing. Raises DatabaseError for a file of another kind, or a damaged one."""
        (version,) = self.base.execute("pragma user_version").fetchone()
        if version not in _VERSIONS:
            raise sqlite3.DatabaseError(f"version {version}")
        (fault,) = self.base.execute("pragma quick_check(1)").fetchone()
        if fault != "ok":
            raise sqlite3.DatabaseError(str(fault).splitlines()[-1])
        for name, kind in self.base.execute("select name, type from sqlite_master"):
            if kind not in ("table", "index") or (kind == "table" and name not in _NAMES):
                raise sqlite3.DatabaseError(f"it has a {kind} {name}")
        self.base.executescript(_TABLES)
        if version == 1:
            self.base.execute("alter table step add column variant text default ''")
        for name, columns in _NAMES.items():
            self.base.execute(f"select {columns} from {name} limit 0")
        self.base.execute(f"pragma user_version = {_VERSIONS[-1]}")

    @contextmanager
    def sound(self) -> Iterator[None]:
        """Translate what a damaged file makes of its reader."""
        try:
            yield
        except sqlite3.OperationalError as exc:
            code = getattr(exc, "sqlite_errorcode", sqlite3.SQLITE_ERROR)  # none: a text that is no UTF-8
            if code & 0xFF == sqlite3.SQLITE_ERROR:  # or a table of other columns
                raise self._unsound(exc) from exc
            what = f"{self.path} cannot be written"
            raise ResourceError(what, str(exc), "check its folder and the disk") from exc
        except (sqlite3.DatabaseError, ValueError, TypeError, AttributeError, LookupError) as exc:
            raise self._unsound(exc) from exc

    def _unsound(self, cause: Exception) -> InputError:
        remedy = "remove it: then all steps run once more, with --replace"
        return InputError(f"{self.path} is no state of a job", str(cause) or "it is damaged", remedy)

    def close(self) -> None:
        """Let go of the file."""
        with suppress(sqlite3.Error):
            self.base.close()
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1


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
