"""What servers gave, kept on the disk: shared by runs, bounded in size, and believed only if unchanged.

One SQLite database holds it; files that were fetched as a whole stand beside it.
Writers wait for each other, a run that
is killed leaves what was kept whole, and what does not agree with its digest is dropped.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import sqlite3
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from isal import isal_zlib

from zembrel.errors import ResourceError

MOST = 5_000_000_000  # bytes that are kept
_SPARED = 0.9  # of the most that stays when room is made
_EACH = 64_000_000  # bytes that are added before it is looked whether room has to be made
_SEEN = 3_600.0  # seconds after which a use is noted again
_PAGE = 32_768  # bytes of a page: most answers lie in one
_AT_ONCE = 500  # keys of one question
_WAIT = 60.0  # seconds for other processes
_NAME, _FILES = "kept.sqlite", "file-"
_FOLDER_MODE, _FILE_MODE = 0o700, 0o600
_TABLE = """
create table if not exists kept (
  source text not null, key text not null, stored real not null, used real not null, size integer not null,
  status integer not null, type text not null, mark text, digest blob not null, data blob, file text,
  primary key (source, key))
"""


class Kept(NamedTuple):
    """An answer that was kept: when, its status, media type and mark, and its bytes or the file of them."""

    stored: float
    status: int
    type: str
    mark: str | None
    data: bytes
    file: Path | None = None


class Share(NamedTuple):
    """What is kept of a source: entries, bytes, and when the oldest and the latest were stored."""

    source: str
    entries: int
    bytes: int
    oldest: float
    latest: float


class _Body(NamedTuple):
    """How the bytes of an answer are kept: in the database, or in a file."""

    size: int
    digest: bytes
    data: bytes | None
    file: str | None


class WebCache:
    """Answers by source and key, in a folder."""

    def __init__(self, folder: Path, most: int = MOST) -> None:
        self.folder, self.most = folder, most
        self._local = threading.local()
        self._added = 0
        self._lock = threading.Lock()

    def __getstate__(self) -> tuple[Path, int]:
        return self.folder, self.most

    def __setstate__(self, state: tuple[Path, int]) -> None:
        self.__init__(*state)  # type: ignore[misc]

    def get(self, source: str, key: str) -> Kept | None:
        """What is kept, if it is whole."""
        with self._working() as held:
            columns = "stored, status, type, mark, data, file, digest, used"
            asked = f"select {columns} from kept where source=? and key=?"
            row = held.execute(asked, (source, key)).fetchone()
            if row is None:
                return None
            stored, status, kind, mark, data, name, digest, used = row
            file = self.folder / name if name else None
            if not (_same(data, digest) if file is None else _whole(file, digest)):
                self.drop(source, key)
                return None
            if time.time() - used > _SEEN:
                held.execute("update kept set used=? where source=? and key=?", (time.time(), source, key))
            return Kept(stored, status, kind, mark, data or b"", file)

    def stored(self, source: str, keys: Sequence[str]) -> dict[str, tuple[float, int]]:
        """When those of `keys` that are kept were stored, and their status."""
        found: dict[str, tuple[float, int]] = {}
        with self._working() as held:
            for start in range(0, len(keys), _AT_ONCE):
                some = keys[start : start + _AT_ONCE]
                marks = ",".join("?" * len(some))
                asked = f"select key, stored, status from kept where source=? and key in ({marks})"
                found |= {key: (when, status) for key, when, status in held.execute(asked, (source, *some))}
        return found

    def size_of(self, source: str, keys: Sequence[str]) -> tuple[int, int]:
        """Return how many of `keys` are kept with a body, and the bytes of these together."""
        count = size = 0
        with self._working() as held:
            for start in range(0, len(keys), _AT_ONCE):
                some = keys[start : start + _AT_ONCE]
                marks = ",".join("?" * len(some))
                asked = "select count(*), coalesce(sum(size), 0) from kept where status=200 and source=?"
                row = held.execute(f"{asked} and key in ({marks})", (source, *some)).fetchone()
                count, size = count + row[0], size + row[1]
        return count, size

    def put(self, source: str, key: str, kept: Kept) -> None:
        """Keep an answer whose bytes are at hand."""
        self._insert(source, key, kept, _Body(len(kept.data), _digest(kept.data), kept.data, None))

    def put_file(self, source: str, key: str, kept: Kept) -> None:
        """Keep an answer whose bytes stand in a file that `place` gave."""
        assert kept.file is not None
        kept.file.chmod(_FILE_MODE)
        size = kept.file.stat().st_size
        self._insert(source, key, kept, _Body(size, str(size).encode(), None, self._named(kept.file)))

    def _named(self, file: Path) -> str:
        return file.relative_to(self.folder).as_posix()

    def place(self, name: str = "answer") -> Path:
        """A new place for a file of that name, which is about to be kept."""
        with self._failing():
            folder = self.folder / f"{_FILES}{secrets.token_hex(8)}"
            make_private(self.folder, holds=_NAME)
            make_private(folder, holds=name)
        return folder / name

    def drop(self, source: str, key: str) -> None:
        """Forget an answer."""
        self._remove("source=? and key=?", (source, key))

    def clear(self, source: str | None = None) -> int:
        """Forget all, or all of a source; the bytes that are free then."""
        before = sum(share.bytes for share in self.shares())
        self._remove("1=1" if source is None else "source=?", () if source is None else (source,))
        with self._working() as held:
            held.execute("vacuum")
        self._sweep()
        return before - sum(share.bytes for share in self.shares())

    def shares(self) -> list[Share]:
        """What is kept of each source."""
        asked = "select source, count(*), sum(size), min(stored), max(stored) from kept group by source"
        with self._working() as held:
            return [Share(*row) for row in held.execute(f"{asked} order by source")]

    def _insert(self, source: str, key: str, kept: Kept, body: _Body) -> None:
        values = (
            source,
            key,
            kept.stored,
            time.time(),
            body.size,
            kept.status,
            kept.type,
            kept.mark,
            *body[1:],
        )
        with self._working() as held:
            old = held.execute("select file from kept where source=? and key=?", (source, key)).fetchone()
            held.execute("insert or replace into kept values (?,?,?,?,?,?,?,?,?,?,?)", values)
        if old and old[0] and old[0] != body.file:
            self._unlink(old[0])
        with self._lock:
            self._added += body.size
            full = self._added >= min(_EACH, self.most // 10)
            self._added = 0 if full else self._added
        if full:
            self._make_room()

    def _make_room(self) -> None:
        """Forget what was not used for longest, where there is too much."""
        with self._working() as held:
            (whole,) = held.execute("select coalesce(sum(size), 0) from kept").fetchone()
            if whole <= self.most:
                return
            last = None
            for used, size in held.execute("select used, size from kept order by used"):
                last, whole = used, whole - size
                if whole <= self.most * _SPARED:
                    break
        self._remove("used<=?", (last,))

    def _remove(self, condition: str, values: tuple[object, ...]) -> None:
        with self._working() as held:
            rows = held.execute(f"select file from kept where {condition}", values).fetchall()
            held.execute(f"delete from kept where {condition}", values)
        for (name,) in rows:
            if name:
                self._unlink(name)

    def _unlink(self, name: str) -> None:
        file = self.folder / name
        file.unlink(missing_ok=True)
        with contextlib.suppress(OSError):
            file.parent.rmdir()

    def _sweep(self) -> None:
        """Remove files that no entry names, of runs that were killed."""
        with self._working() as held:
            named = {name for (name,) in held.execute("select file from kept where file is not null")}
        for file in self.folder.glob(f"{_FILES}*/*"):
            if self._named(file) not in named and time.time() - file.stat().st_mtime > _SEEN:
                self._unlink(self._named(file))

    @contextlib.contextmanager
    def _working(self) -> Iterator[sqlite3.Connection]:
        """The database, for this thread. Raises ResourceError where it cannot be used."""
        with self._failing():
            yield self._open()

    def _open(self) -> sqlite3.Connection:
        held = getattr(self._local, "held", None)
        if held is None or held[0] != os.getpid():
            make_private(self.folder, holds=_NAME)
            try:
                base = self._connect()
            except sqlite3.OperationalError:
                raise
            except sqlite3.DatabaseError:  # no database any more: all of it can be fetched again
                (self.folder / _NAME).unlink(missing_ok=True)
                base = self._connect()
            held = self._local.held = os.getpid(), base
        connection: sqlite3.Connection = held[1]
        return connection

    def _connect(self) -> sqlite3.Connection:
        private_file(self.folder / _NAME)  # SQLite gives what it puts beside it the same mode
        base = sqlite3.connect(self.folder / _NAME, _WAIT, isolation_level=None)
        base.execute(f"pragma page_size={_PAGE}")  # of a new one
        base.execute("pragma journal_mode=wal")
        base.execute("pragma synchronous=normal")
        base.execute(_TABLE)
        return base

    @contextlib.contextmanager
    def _failing(self) -> Iterator[None]:
        try:
            yield
        except (sqlite3.Error, OSError) as exc:
            what = f"{self.folder} cannot keep what servers give"
            remedy = "free some space, or set ZEMBREL_CACHE to another folder"
            raise ResourceError(what, str(exc), remedy) from exc


def make_private(folder: Path, *, holds: str) -> None:
    """Make a folder that its user alone may enter; a folder that exists is changed if it `holds` our file."""
    ours = (folder / holds).exists()
    if not folder.is_dir():
        folder.parent.mkdir(parents=True, exist_ok=True)
        with contextlib.suppress(FileExistsError):
            folder.mkdir(mode=_FOLDER_MODE)
            ours = True
    if ours and folder.stat().st_mode & 0o777 != _FOLDER_MODE:
        folder.chmod(_FOLDER_MODE)


def private_file(path: Path) -> None:
    """Make a file, if none is there, and let its user alone read and write it."""
    os.close(os.open(path, os.O_RDWR | os.O_CREAT | getattr(os, "O_CLOEXEC", 0), _FILE_MODE))
    if path.stat().st_mode & 0o777 != _FILE_MODE:
        path.chmod(_FILE_MODE)


def _digest(data: bytes) -> bytes:
    return int(isal_zlib.crc32(data)).to_bytes(4, "big")


def _same(data: bytes | None, digest: bytes) -> bool:
    return data is not None and _digest(data) == digest


def _whole(file: Path, digest: bytes) -> bool:
    """Whether a file is as long as it was."""
    try:
        return str(file.stat().st_size).encode() == digest
    except OSError:
        return False
