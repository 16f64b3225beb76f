"""Files and folders put in their place in one step, and what a disk is told to keep.

Where the system cannot do a thing in one step, the next best is done, or the caller is told so. Source: the
Linux manual, renameat2(2), syncfs(2); POSIX.1-2017, link() and rename().
"""

from __future__ import annotations

import ctypes
import errno
import os
from pathlib import Path

_HERE, _NOREPLACE, _EXCHANGE = -100, 1, 2
_UNKNOWN = (errno.ENOSYS, errno.EINVAL, errno.ENOTSUP, errno.EPERM)
_MANY = 200  # files of a folder that are flushed one by one


def put_new(staged: Path, final: Path) -> None:
    """Let `staged` be `final` from now on. Raises FileExistsError if that is there already."""
    if _renamed(staged, final, _NOREPLACE):
        return
    if staged.is_dir():
        final.mkdir()
        staged.rename(final)  # onto a folder that is empty
        return
    try:
        os.link(staged, final)
    except OSError as exc:
        if exc.errno not in _UNKNOWN:
            raise
        os.close(os.open(final, os.O_WRONLY | os.O_CREAT | os.O_EXCL))
        staged.replace(final)
        return
    staged.unlink()


def put_over(staged: Path, final: Path) -> bool:
    """Let `staged` take the place of `final` in one step; False where a folder cannot be exchanged so."""
    if not staged.is_dir() and not final.is_dir():
        staged.replace(final)
        return True
    return _renamed(staged, final, _EXCHANGE)


def flush(path: Path) -> None:
    """See to it that a file, or a folder with all that is in it, outlives a failure of power."""
    if not path.is_dir():
        _synced(path)
        return
    inside = [Path(folder) / name for folder, _, names in os.walk(path) for name in names]
    if len(inside) <= _MANY or not _whole_disk(path):
        for file in inside:
            _synced(file)
    for folder, _, _ in os.walk(path, topdown=False):
        _synced(Path(folder))


def flush_names(folder: Path) -> None:
    """See to it that the names in a folder outlive a failure of power."""
    _synced(folder)


def _synced(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _renamed(one: Path, other: Path, flag: int) -> bool:
    """Whether the system renamed in this way. Raises OSError if it can and did not."""
    rename = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if rename is None or rename(_HERE, os.fsencode(one), _HERE, os.fsencode(other), flag) == 0:
        return rename is not None
    code = ctypes.get_errno()
    if code in _UNKNOWN:
        return False
    raise OSError(code, os.strerror(code), str(other))


def _whole_disk(path: Path) -> bool:
    """Whether the disk that `path` is on was flushed as a whole."""
    flushed = getattr(ctypes.CDLL(None, use_errno=True), "syncfs", None)
    descriptor = os.open(path, os.O_RDONLY)
    try:
        return flushed is not None and flushed(descriptor) == 0
    finally:
        os.close(descriptor)
