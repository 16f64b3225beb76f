"""Results appear whole or not at all: files are made in a staging folder beside their place.

The folder carries the number of the process that made it, so that a later run can tell what a killed
one left behind.
"""

from __future__ import annotations

import errno
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType

from zembrel.errors import RefusedError, ResourceError, ZembrelError
from zembrel.formats import is_store
from zembrel.reading import readings

_PREFIX = ".zembrel-part-"


class Staging:
    """Files on their way to their place. Use as a context: leaving by an exception removes them.

    mends: whether a file may be put in place of one that is read, since mending that one is the task.
    """

    def __init__(self, replace: bool = False, *, mends: bool = False) -> None:
        self._replace = replace
        self._mends = mends
        self._folders: dict[Path, Path] = {}
        self._moves: dict[Path, Path] = {}

    def path_for(self, final: Path) -> Path:
        """Where to write what shall appear at `final`.

        Raises RefusedError if something is there already and may not be replaced, ResourceError if
        the folder cannot be written.
        """
        check_free(final, self._replace, mends=self._mends)
        folder = self._folders.get(final.parent)
        if folder is None:
            with resource_errors(final):
                final.parent.mkdir(parents=True, exist_ok=True)
                sweep(final.parent)
                folder = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-", dir=final.parent))
            self._folders[final.parent] = folder
        self._moves[final] = folder / final.name
        return self._moves[final]

    def write_text(self, final: Path, text: str) -> None:
        """A small file that appears with the others."""
        staged = self.path_for(final)
        with resource_errors(final):
            staged.write_text(text, encoding="utf-8")

    def publish(self) -> None:
        """Put every file in its place: flushed to the disk, then renamed.

        Raises ResourceError, and RefusedError if the run has read what a file would replace.
        """
        for final in self._moves:
            if not self._mends:
                readings.refuse(final)
        for final, staged in self._moves.items():
            with resource_errors(final):
                descriptor = os.open(staged, os.O_RDONLY)
                try:
                    os.fsync(descriptor)
                finally:
                    os.close(descriptor)
                if final.is_dir():
                    final.rename(staged.with_name(staged.name + ".old"))
                staged.replace(final)
        self._discard()

    def _discard(self) -> None:
        for folder in self._folders.values():
            shutil.rmtree(folder, ignore_errors=True)
        self._folders.clear()
        self._moves.clear()

    def __enter__(self) -> Staging:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._discard()


def check_free(final: Path, replace: bool, *, mends: bool = False) -> None:
    """Raise RefusedError if `final` exists and may not be replaced, or is read in this run."""
    if final.is_dir() and not is_store(final):
        raise RefusedError(
            f"{final} is a folder", "a file of that name cannot be made", "choose another --out"
        )
    if final.exists() and not replace:
        raise RefusedError(
            f"{final} exists", "it would be overwritten", "add --replace, or choose another --out"
        )
    if not mends:
        readings.refuse(final)


def sweep(folder: Path) -> None:
    """Remove staging folders whose process is gone."""
    for left in folder.glob(_PREFIX + "*"):
        found = re.match(re.escape(_PREFIX) + r"(\d+)-", left.name)
        if found and not _alive(int(found[1])):
            shutil.rmtree(left, ignore_errors=True)


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


@contextmanager
def resource_errors(path: Path) -> Iterator[None]:
    """Any OSError inside becomes a ResourceError about `path`."""
    try:
        yield
    except ZembrelError:
        raise
    except OSError as exc:
        why = (exc.strerror or str(exc)).lower()
        remedy = "free some space, or choose another disk with --out"
        if exc.errno not in (errno.ENOSPC, errno.EDQUOT):
            remedy = "check the path and its permissions, or choose another --out"
        raise ResourceError(f"{path} cannot be written", why, remedy) from exc
