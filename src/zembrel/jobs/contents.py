"""Whether files are what they were: by what the system says of them, where that has changed by content."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from zembrel.checksums import checksum_of
from zembrel.jobs.patterns import is_pattern, matching

_SIDECARS = (".prj", ".wld", ".hdr", ".tfw", ".tifw", ".pgw", ".pngw", ".jgw", ".jpgw", ".clr", ".stx")
_MISSING = "missing"


class Mark(NamedTuple):
    """What the system says of a file: its size, two times of change in ns, and its number."""

    size: int
    changed: int
    altered: int
    inode: int


class Content(NamedTuple):
    """A file, or a folder as one, its mark, and the checksum of what is in it."""

    path: str
    mark: Mark
    checksum: str


def mark_of(path: str) -> Mark | None:
    """The mark of a file; None where none is. A folder has a size of -1: its times say nothing of what is in
    it."""
    try:
        found = os.stat(path)  # noqa: PTH116 half the time, for many files
    except OSError:
        return None
    size = -1 if stat.S_ISDIR(found.st_mode) else found.st_size
    return Mark(size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino)


def contents_of(paths: Iterable[str], known: Mapping[str, Content], workers: int) -> Iterator[Content]:
    """What is in each file that is there; known: contents that are trusted as long as their marks stand."""
    with ThreadPoolExecutor(workers) as pool:
        for content in pool.map(lambda path: content_of(path, known.get(path)), paths):
            if content is not None:
                yield content


def content_of(path: str, known: Content | None = None) -> Content | None:
    """What is in a file; None where none is, or it cannot be read."""
    mark = mark_of(path)
    if mark is None:
        return None
    if known is not None and known.mark == mark and mark.size >= 0:
        return known
    try:
        return Content(path, mark, checksum_of(Path(path)))
    except OSError:
        return None


def unchanged(content: Content) -> bool:
    """Whether a file still holds what it did."""
    now = content_of(content.path, content)
    return now is not None and now.checksum == content.checksum


def with_mark(content: Content) -> Content:
    """An unchanged file with the mark that it has now, so that the next look need not read it."""
    now = mark_of(content.path)
    return content if now is None or now == content.mark else content._replace(mark=now)


def listed(word: str, folder: Path) -> list[str]:
    """The names of what an input means now: a path with what stands beside it, a folder, or a pattern."""
    if is_pattern(word):
        return sorted(map(str, matching(word, folder)))
    path = folder / word
    if path.is_dir():
        found = (inner.relative_to(path) for inner in path.rglob("*") if inner.is_file())
        return sorted(str(inner) for inner in found if not any(part.startswith(".") for part in inner.parts))
    stem = os.path.splitext(path)[0]  # noqa: PTH122 a tenth of the time, for many files
    beside = [os.path.basename(stem) + end for end in _SIDECARS if os.path.exists(stem + end)]  # noqa: PTH110,PTH119
    return [path.name if path.exists() else _MISSING, *beside]
