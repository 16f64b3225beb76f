"""Files for libraries that cannot bear a failing disk."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any


class GuardedFile(io.RawIOBase):
    """A file whose writer never hears of a failure; `check` does.

    HDF5 ends the process, and others speak up when they are freed, if something that they have written does
    not reach the disk. From the first failure on nothing is written any more.
    """

    def __init__(self, path: Path) -> None:
        self._file = path.open("w+b", buffering=0)
        self._failed: OSError | None = None

    def check(self) -> None:
        """Raise the OSError that the writer was not told."""
        if self._failed is not None:
            raise self._failed

    def write(self, data: Any) -> int:
        view = memoryview(data).cast("B")
        self._quietly(lambda: self._all(view))
        return len(view)

    def _all(self, view: memoryview) -> None:
        while view:
            view = view[self._file.write(view) or 0 :]

    def truncate(self, size: int | None = None) -> int:
        self._quietly(lambda: self._file.truncate(size))
        return self.tell() if size is None else size

    def close(self) -> None:
        if not self.closed:
            self._quietly(self._file.close)
            super().close()

    def _quietly(self, act: Any) -> None:
        try:
            if self._failed is None or act == self._file.close:
                act()
        except OSError as exc:
            self._failed = exc

    def readinto(self, room: Any) -> int:
        return self._file.readinto(room) or 0

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        return self._file.seek(offset, whence)

    def tell(self) -> int:
        return self._file.tell()

    def readable(self) -> bool:
        return True

    def writable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True
