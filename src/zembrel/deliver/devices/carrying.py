"""Files copied to a device: under a name for the time being, flushed, read again, then renamed."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path

from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import ResourceError
from zembrel.progress import Progress, Tick

_PIECE = 4_000_000  # bytes


def copy_all(items: Sequence[tuple[Path, Path]], replace: bool, tick: Tick) -> int:
    """Copy files and folders, each to its place, all or none; returns how many files were compared.

    Raises ResourceError where the device fails, is full or is gone, or where a copy is not what was read.
    """
    files = [(path, path.relative_to(source)) for source, _ in items for path in _files(source)]
    total, done, compared = sum(path.stat().st_size for path, _ in files), 0, 0

    def advance(count: int) -> None:
        nonlocal done
        done += count
        tick(Progress(compared, len(files), done, total))

    with Staging(replace) as staging:
        for source, final in items:
            staged = staging.path_for(final)
            for path in _files(source):
                to = staged / path.relative_to(source) if source.is_dir() else staged
                with resource_errors(final):
                    to.parent.mkdir(parents=True, exist_ok=True)
                    _copied(path, to, advance)
                compared += 1
        staging.publish()
    return compared


def _files(source: Path) -> list[Path]:
    return sorted(path for path in source.rglob("*") if path.is_file()) if source.is_dir() else [source]


def _copied(source: Path, to: Path, advance: Callable[[int], None]) -> None:
    """One file, compared with its copy by a checksum of what is read again."""
    import os

    given = hashlib.blake2b()
    with source.open("rb") as read, to.open("wb") as write:
        while piece := read.read(_PIECE):
            given.update(piece)
            write.write(piece)
            advance(len(piece))
        write.flush()
        os.fsync(write.fileno())
    shutil.copymode(source, to)
    with to.open("rb") as read:
        found = hashlib.file_digest(read, "blake2b")
    if found.digest() != given.digest():
        why = "what is read there is not what was written"
        raise ResourceError(f"{to.name} did not arrive", why, "try another card or cable")
