"""Which file a path names: one answer for every spelling of it."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path


class FileNames:
    """Names of files, seen from the folder of a job.

    Links in the folders of a path are followed. A file in the folder of the job is named relative to it, so
    that a job can be moved; any other file is named by its full path.
    """

    def __init__(self, folder: Path) -> None:
        self._root = os.path.realpath(folder)
        self._parents: dict[str, str] = {}

    def of(self, path: str | os.PathLike[str]) -> str:
        """Return the name of the file at `path`. The file need not exist."""
        whole = os.path.join(self._root, path)  # noqa: PTH118 a tenth of the time, for many files
        parent, last = os.path.split(whole.rstrip(os.sep) or os.sep)
        if last in ("", os.curdir, os.pardir):
            found = os.path.realpath(whole)
        else:
            if parent not in self._parents:
                self._parents[parent] = os.path.realpath(parent)
            found = os.path.join(self._parents[parent], last)  # noqa: PTH118
        if found == self._root:
            return os.curdir
        return found.removeprefix(self._root.rstrip(os.sep) + os.sep)

    def key(self, path: str | os.PathLike[str]) -> str:
        """Return what is equal for two paths that name one file.

        Case is folded where the file system does so.
        """
        name = self.of(path)
        parent = os.path.dirname(os.path.join(self._root, name))  # noqa: PTH118, PTH120
        return name.casefold() if _folds_case(parent) else name


@lru_cache(4096)
def _folds_case(folder: str) -> bool:
    """Return True where `A` and `a` name one file, as far as the folders that exist show it."""
    while folder:
        parent, last = os.path.split(folder)
        if last.swapcase() != last and os.path.lexists(folder):
            other = os.path.join(parent, last.swapcase())  # noqa: PTH118
            return os.path.exists(other) and os.path.samefile(folder, other)  # noqa: PTH110, PTH121
        if parent == folder:
            return False
        folder = parent
    return False
