"""How kernels are compiled: without the interpreter's lock, kept on the disk, and never in silence.

A kernel is compiled for the types that it is first called with, and loaded from then on. Importing this
module loads the compiler.
"""

from __future__ import annotations

import fcntl
import os
import time
from functools import cache
from pathlib import Path
from typing import Any

import numba.core.config
from numba import njit
from numba.core import caching, event

from zembrel.owned import OwnedFolder, temporary
from zembrel.progress import tell

_PATIENCE = 60.0  # seconds to wait for a kernel that another process compiles
_PAUSE = 0.02  # seconds between looks at it
_NOTICE = "compiling kernels, once after installation; zembrel warm compiles all of them"


class _Teller(event.Listener):  # type: ignore[misc]
    """Says that something is compiled."""

    def on_start(self, event: Any) -> None:
        tell(_NOTICE)

    def on_end(self, event: Any) -> None:
        if event._exc_details is not None:  # nothing will be saved
            _no_longer_ours(event.data["dispatcher"]._cache)


event.register("numba:compile", _Teller())


_load, _save = caching.Cache.load_overload, caching.Cache.save_overload
_compiled_here: dict[int, int] = {}  # the open lock files of what this process compiles, by where it is kept


def _load_or_begin_anew(kept: Any, signature: Any, target: Any) -> Any:
    """A kernel that is kept, or that another process compiles right now; none if it is for us to compile."""
    found = _loaded(kept, signature, target)
    if found is None and _now_ours(kept):
        found = _loaded(kept, signature, target)  # another process may have been sooner
        if found is not None:
            _no_longer_ours(kept)
    return found


def _save_for_all(kept: Any, signature: Any, compiled: Any) -> None:
    try:
        _save(kept, signature, compiled)
    finally:
        _no_longer_ours(kept)


def _loaded(kept: Any, signature: Any, target: Any) -> Any:
    """A kernel that is kept; none where what is kept is damaged, which is thrown away then."""
    try:
        return _load(kept, signature, target)
    except Exception:  # whatever a damaged file makes of its reader
        tell("kept kernels are damaged, and compiled anew")
        kept.flush()
        return None


def _now_ours(kept: Any) -> bool:
    """Hold the lock on a kernel's place until it is saved; False if that is not possible, or is so already.

    Two processes at once would do the same work, and one would lose the other's entry in the index.
    """
    if id(kept) in _compiled_here:
        return False
    try:
        kept._impl.locator.ensure_cache_path()
        place = Path(kept.cache_path) / f"{kept._impl.filename_base}.lock"
        lock = os.open(place, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError:
        return False
    until = time.monotonic() + _PATIENCE
    while time.monotonic() < until:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            time.sleep(_PAUSE)
        except OSError:  # a disk without locks
            break
        else:
            _compiled_here[id(kept)] = lock
            return True
    os.close(lock)
    return False


def _no_longer_ours(kept: Any) -> None:
    lock = _compiled_here.pop(id(kept), None)
    if lock is not None:
        os.close(lock)


caching.Cache.load_overload = _load_or_begin_anew
caching.Cache.save_overload = _save_for_all


def _writable(folder: Path) -> bool:
    """Whether files can be made in `folder`, or in the first one above it that is there."""
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    return os.access(folder, os.W_OK | os.X_OK)


@cache
def _kept_for_this_run() -> OwnedFolder:
    return temporary()


def _find_place() -> None:
    """See to it that compiled kernels can be kept somewhere, if only for this run."""
    if numba.core.config.CACHE_DIR:
        return
    package, home = Path(__file__).parent, Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    if not _writable(package) and not _writable(home):
        numba.core.config.CACHE_DIR = str(_kept_for_this_run().path)


_find_place()


def kernel(function: Any) -> Any:
    """A kernel that Python calls. Divisions by zero are those of arrays: infinite, or no number."""
    return njit(nogil=True, cache=True, no_cfunc_wrapper=True, error_model="numpy")(function)


def part_of_kernels(function: Any) -> Any:
    """A function that only kernels call: it needs no way in from Python, which takes long to compile."""
    return njit(nogil=True, cache=True, no_cfunc_wrapper=True, no_cpython_wrapper=True, error_model="numpy")(
        function
    )
