"""How kernels are compiled: without the interpreter's lock, kept on the disk, and never in silence.

A kernel is compiled for the types that it is first called with, and loaded from then on. Importing this
module loads the compiler.
"""

from __future__ import annotations

import os
from functools import cache
from pathlib import Path
from typing import Any

import numba.core.config
from numba import njit
from numba.core import caching, event

from zembrel.owned import OwnedFolder, temporary
from zembrel.progress import tell

_NOTICE = "compiling kernels, once after installation; zembrel warm compiles all of them"


class _Teller(event.Listener):  # type: ignore[misc]
    """Says that something is compiled."""

    def on_start(self, event: Any) -> None:
        tell(_NOTICE)

    def on_end(self, event: Any) -> None: ...


event.register("numba:compile", _Teller())


_load = caching.Cache.load_overload


def _load_or_begin_anew(kept: Any, signature: Any, target: Any) -> Any:
    """A kernel that is kept; none where what is kept is damaged, which is thrown away then."""
    try:
        return _load(kept, signature, target)
    except Exception:  # whatever a damaged file makes of its reader
        tell("kept kernels are damaged, and compiled anew")
        kept.flush()
        return None


caching.Cache.load_overload = _load_or_begin_anew


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
