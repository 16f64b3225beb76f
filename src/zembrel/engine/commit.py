"""Results appear whole or not at all: files are made in a staging folder beside their place.

The folder is owned (see `owned`): what a killed run left is settled and swept by the next run that writes
there.
"""

from __future__ import annotations

import errno
import os
import shutil
import sqlite3
import stat
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType

from zembrel.engine.exchange import flush, flush_names, put_new, put_over
from zembrel.engine.together import Together, settle, unsettled
from zembrel.errors import InputError, RefusedError, ResourceError, ZembrelError
from zembrel.formats import stands_as_store
from zembrel.formats.tilefolder import stands_as_tiles
from zembrel.owned import OwnedFolder, sweep
from zembrel.reading import readings

_PREFIX = ".zembrel-part-"
_DATABASE = {
    sqlite3.SQLITE_FULL: errno.ENOSPC, sqlite3.SQLITE_IOERR: errno.EIO, sqlite3.SQLITE_CANTOPEN: errno.EIO,
    sqlite3.SQLITE_READONLY: errno.EROFS,
}  # fmt: skip


class Staging:
    """Files on their way to their place. Use as a context: leaving by an exception removes them.

    mends: whether a file may be put in place of one that is read, since mending that one is the task.
    """

    def __init__(self, replace: bool = False, *, mends: bool = False) -> None:
        self._replace = replace
        self._mends = mends
        self._folders: dict[Path, OwnedFolder] = {}
        self._moves: dict[Path, Path] = {}
        self._stale: list[Path] = []

    def path_for(self, final: Path) -> Path:
        """Where to write what shall appear at `final`; in each folder the first is the main one.

        Raises RefusedError if something is there already and may not be replaced, ResourceError if
        the folder cannot be written.
        """
        if self._mends:
            final = final.resolve()  # through links: the file itself is mended
        check_free(final, self._replace, mends=self._mends)
        owned = self._folders.get(final.parent)
        if owned is None:
            with resource_errors(final):
                final.parent.mkdir(parents=True, exist_ok=True)
                owned = self._folders[final.parent] = OwnedFolder(final.parent, _PREFIX)
        self._moves[final] = owned.path / final.name
        return self._moves[final]

    @property
    def places(self) -> list[Path]:
        """Where everything is written that shall appear."""
        return list(self._moves.values())

    def place_of(self, final: Path) -> Path:
        """Where what shall appear at `final` is written, once it has a place."""
        return self._moves[final]

    def write_text(self, final: Path, text: str) -> None:
        """A small file that appears with the others."""
        staged = self.path_for(final)
        with resource_errors(final):
            staged.write_text(text, encoding="utf-8")

    def let_go(self, final: Path) -> None:
        """A file that belongs to what is replaced, and not to what takes its place."""
        check_free(final, self._replace, mends=self._mends)
        self._stale.append(final)

    def publish(self) -> None:
        """Put every file in its place: flushed to the disk, then renamed.

        Raises ResourceError, RefusedError if the run has read what a file would replace, or another run has
        put something there meanwhile, and InputError if something that was read has changed since.
        """
        readings.check_unchanged()
        for final in self._moves:
            if self._mends:
                readings.mended(final)
            else:
                readings.refuse(final)
        readings.write(list(self._moves))
        for final, staged in self._moves.items():
            with resource_errors(final):
                if self._mends and final.exists():
                    _make_alike(staged, final)
                flush(staged)
        for parent in self._folders:
            self._put(parent)
        self._discard()

    def _put(self, parent: Path) -> None:
        """All files of one folder."""
        finals = [final for final in self._moves if final.parent == parent]
        stale = [final.name for final in self._stale if final.parent == parent and final.exists()]
        main, folder = finals[0], self._folders[parent].path
        with resource_errors(main):
            try:
                if len(finals) > 1 or stale or not self._put_alone(main):
                    names = [final.name for final in finals]
                    Together.of(folder, names, stale, self._replace).publish()
                else:
                    flush_names(parent)
            except FileExistsError as exc:
                what, why = f"{exc.filename or main} exists", "another run has made it meanwhile"
                raise RefusedError(what, why, "add --replace, or choose another --out") from exc

    def _put_alone(self, final: Path) -> bool:
        staged = self._moves[final]
        if self._replace and os.path.lexists(final):
            return put_over(staged, final)
        put_new(staged, final)
        return True

    def _discard(self) -> None:
        for owned in self._folders.values():
            if unsettled(owned.path):
                owned.leave()  # to the next run: what stood before is in it
            else:
                owned.remove()
        self._folders.clear()
        self._moves.clear()

    def __enter__(self) -> Staging:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        hidden = {f"{owned.path}{os.sep}": parent for parent, owned in self._folders.items()}
        self._discard()
        if isinstance(error, ZembrelError):
            _refuse_hidden(error, hidden)


def _refuse_hidden(error: ZembrelError, hidden: Mapping[str, Path]) -> None:
    """Raise ResourceError in place of an error that names a file on its way to its place.

    Nobody who runs the program knows of that file, and what the program itself has written is at fault.
    hidden: the folders of such files, and where they go.
    """
    for folder, parent in hidden.items():
        if folder in f"{error.what}\n{error.why}":
            end = "" if parent == Path() else f"{parent}{os.sep}"
            what, why = (text.replace(folder, end) for text in (error.what, error.why))
            told = f"{what}: {why}" if isinstance(error, InputError) else why
            first = "a result is not what was written" if isinstance(error, InputError) else what
            raise ResourceError(first, told, "run it again, and report it if that does not help") from error


def _make_alike(staged: Path, final: Path) -> None:
    """Give a file the mode and, if that is allowed, the owner of the one it takes the place of."""
    shutil.copymode(final, staged)
    with suppress(OSError):
        os.chown(staged, final.stat().st_uid, final.stat().st_gid)


def replaces_folder(path: Path) -> bool:
    """Return True for a folder that holds a store or a pack of tiles and nothing else."""
    return stands_as_store(path) or stands_as_tiles(path)


def check_free(final: Path, replace: bool, *, mends: bool = False) -> None:
    """Raise RefusedError if `final` exists and may not be replaced, or is read in this run.

    Replaced are files, and folders that are a store or tiles alone: no other folder, pipe or device.
    """
    if final.parent.is_dir():
        sweep(final.parent, _PREFIX, settle)
    if final.is_dir() and not (replaces_folder(final) or readings.owns(final)):
        raise RefusedError(
            f"{final} is a folder", "a file of that name cannot be made", "choose another name"
        )
    if os.path.lexists(final):
        if final.exists() and not final.is_dir() and not stat.S_ISREG(final.stat().st_mode):
            raise RefusedError(
                f"{final} is no file", "a pipe or a device is never replaced", "choose another name"
            )
        if not replace:
            raise RefusedError(
                f"{final} exists", "it would be overwritten", "add --replace, or choose another name"
            )
    if not mends:
        readings.refuse(final)


def _of_disk(error: OSError | sqlite3.OperationalError) -> OSError:
    """What a database says of the disk, as the disk says it. Raises what has to do with anything else."""
    if isinstance(error, OSError):
        return error
    code = _DATABASE.get(getattr(error, "sqlite_errorcode", sqlite3.SQLITE_ERROR) & 0xFF)
    if code is None:
        raise error
    return OSError(code, os.strerror(code))


@contextmanager
def resource_errors(path: Path) -> Iterator[None]:
    """Any OSError inside becomes a ResourceError about `path`."""
    try:
        yield
    except ZembrelError:
        raise
    except (OSError, sqlite3.OperationalError) as exc:
        exc = _of_disk(exc)
        why = (exc.strerror or str(exc)).lower()
        remedy = "free some space, or choose another disk with --out"
        if exc.errno not in (errno.ENOSPC, errno.EDQUOT):
            remedy = "check the path and its permissions, or choose another --out"
        raise ResourceError(f"{path} cannot be written", why, remedy) from exc
