"""Files that lie elsewhere: members of archives and addresses on the web, each under a name of its own.

Readers see plain paths. A name such as `sheets.zip/m1.tif` or `host/m1.tif` stands for a file in a folder of
this process, which goes with it; `real` tells which.
"""

from __future__ import annotations

import tempfile
import threading
from functools import cache
from pathlib import Path

_real: dict[Path, Path] = {}
_lock = threading.Lock()


def real(path: Path) -> Path:
    """Where the bytes of `path` are: itself, if it is no name of a file elsewhere."""
    return _real.get(path, path)


def known(path: Path) -> bool:
    """Whether `path` is the name of a file elsewhere."""
    return path in _real


def stand_for(name: Path, file: Path) -> None:
    """Let `name` stand for `file`."""
    with _lock:
        _real[name] = file


@cache
def _folder() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory(prefix="zembrel-")


def own_folder() -> Path:
    """A new folder for the files of one archive or address."""
    return Path(tempfile.mkdtemp(dir=_folder().name))
