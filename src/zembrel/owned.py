"""Folders that are a run's own for as long as it lives, and swept when it is gone.

A folder is owned by who holds the lock on the file `NAME.lock` beside it: locks of files end with the
process, however that ends, and are seen from other containers and, on a network disk, from other hosts. The
file is there before the folder and goes after it, so that a folder without one is nobody's.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import secrets
import shutil
import tempfile
import time
import weakref
from collections.abc import Callable, Iterator
from pathlib import Path

from zembrel.errors import ResourceError

_LOCK = ".lock"
_DIGITS = 12
_TEMPORARY = "zembrel-run-"
_AGAIN = 60.0  # seconds after which a folder is swept once more
_swept: dict[tuple[Path, str], float] = {}


class OwnedFolder:
    """A new folder, which goes with this object. A copy in another process owns nothing."""

    def __init__(self, parent: Path, prefix: str) -> None:
        self.path, self._lock = _made(parent, prefix)
        self._remove = weakref.finalize(self, _removed, self.path, self._lock, os.getpid())

    def remove(self) -> None:
        """Let the folder go with all that is in it."""
        self._remove()

    def leave(self) -> None:
        """Let the folder stay as one whose owner is gone."""
        if self._remove.detach() is not None:
            os.close(self._lock)

    def __getstate__(self) -> dict[str, Path]:
        return {"path": self.path}


def temporary() -> OwnedFolder:
    """A folder for what is kept for a while. Raises ResourceError where there is no room."""
    try:
        parent = Path(tempfile.gettempdir())
        sweep(parent, _TEMPORARY)
        return OwnedFolder(parent, _TEMPORARY)
    except OSError as exc:
        what = "there is no room for what has to be kept for a while"
        raise ResourceError(what, str(exc), "set TMPDIR to a disk with space") from exc


def sweep(parent: Path, prefix: str, settle: Callable[[Path], None] | None = None) -> None:
    """Remove every folder in `parent` whose owner is gone; looked at once a minute at most.

    settle: what is done with each before that; where it raises OSError the folder stays.
    """
    key, now = (parent.absolute(), prefix), time.monotonic()
    if now - _swept.get(key, -_AGAIN) < _AGAIN:
        return
    _swept[key] = now
    for folder in _left(parent, prefix):
        with contextlib.suppress(OSError):
            lock = os.open(_lock_of(folder), os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
            if not _locked(lock):
                os.close(lock)
                continue  # it is somebody's, or cannot be known
            try:
                if settle is not None and folder.exists():
                    settle(folder)
            except OSError:
                os.close(lock)
                continue
            _remove(folder, lock)


def _left(parent: Path, prefix: str) -> Iterator[Path]:
    """Folders of that prefix that have a lock, and those of which the lock alone is left, of this user."""
    pattern, mine = re.compile(re.escape(prefix) + rf"[0-9a-f]{{{_DIGITS}}}" + re.escape(_LOCK)), os.getuid()
    with contextlib.suppress(OSError):
        found = [entry.name for entry in os.scandir(parent) if pattern.fullmatch(entry.name)]
        for name in sorted(found):
            with contextlib.suppress(OSError):
                if (parent / name).lstat().st_uid == mine:
                    yield parent / name.removesuffix(_LOCK)


def _lock_of(folder: Path) -> Path:
    return folder.with_name(folder.name + _LOCK)


def _made(parent: Path, prefix: str) -> tuple[Path, int]:
    """A new folder, and the lock on it."""
    while True:
        folder = parent / f"{prefix}{secrets.token_hex(_DIGITS // 2)}"
        lock = os.open(_lock_of(folder), os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        try:
            if _locked(lock) is not False:
                folder.mkdir(0o700)
                return folder, lock
        except BaseException:
            _remove(folder, lock)
            raise
        os.close(lock)  # a sweeper was faster: it takes the file for one that was left


def _locked(lock: int) -> bool | None:
    """Whether a file is now ours and still there; None on a disk that knows no locks."""
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        return None
    return os.fstat(lock).st_nlink > 0


def _remove(folder: Path, lock: int) -> None:
    """The folder first: as long as it is there, somebody can see that it was left."""
    shutil.rmtree(folder, ignore_errors=True)
    if not folder.exists():
        with contextlib.suppress(OSError):
            _lock_of(folder).unlink()
    os.close(lock)


def _removed(folder: Path, lock: int, owner: int) -> None:
    if os.getpid() == owner:
        _remove(folder, lock)
