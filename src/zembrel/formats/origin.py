"""Where a dataset comes from: a plain file, a member of an archive, an address on the web."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from zembrel.errors import InputError
from zembrel.handles import ByteSource, Readable, size_on_disk
from zembrel.owned import OwnedFolder, temporary


@dataclass(frozen=True)
class Origin:
    """The name that a dataset is known by, and where its bytes are.

    A member such as `sheets.zip/m1.tif` and what was fetched whole have a file in a folder of this process,
    which goes with it. source: bytes that are read elsewhere, in parts; there is no file then.
    """

    name: Path
    file: Path
    source: ByteSource | None = None

    @classmethod
    def of(cls, path: Path) -> Origin:
        """A plain file."""
        return cls(path, path)

    @property
    def plain(self) -> bool:
        """Whether the name is that of the file."""
        return self.name == self.file and self.source is None

    @property
    def place(self) -> Readable:
        """What readers ask for bytes."""
        return self.file if self.source is None else self.source

    @property
    def size(self) -> int:
        """Bytes of the file, or of all files in a folder."""
        return size_on_disk(self.file) if self.source is None else self.source.stamp.size

    @contextmanager
    def naming(self) -> Iterator[None]:
        """Errors inside tell the name, not the file that stands for it."""
        try:
            yield
        except InputError as exc:
            if self.plain:
                raise
            what = exc.what.replace(str(self.file), str(self.name))
            raise InputError(what, exc.why, exc.remedy) from exc

    def __str__(self) -> str:
        return str(self.name)


@cache
def _folder() -> OwnedFolder:
    return temporary()


def check_inside(file: Path, named: Path) -> Path:
    """`named`, which `file` says. Raises InputError where that leaves the archive that `file` comes from."""
    root = _folder().path.resolve() if _folder.cache_info().currsize else None
    if root is not None and file.resolve().is_relative_to(root):
        own = root / file.resolve().relative_to(root).parts[0]
        if not named.resolve().is_relative_to(own):
            what = f"{file.name} of an archive names {named.name}, which is not in it"
            raise InputError(what, "a member never stands for a file outside", "unpack the archive yourself")
    return named


def own_folder() -> Path:
    """A new folder for the files of one archive or address."""
    return Path(tempfile.mkdtemp(dir=_folder().path))
