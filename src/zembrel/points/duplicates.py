"""How many points lie exactly where another one lies, in bounded memory."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from zembrel.owned import OwnedFolder, temporary
from zembrel.points.records import Records

_HELD = 1 << 20  # points whose places are held in memory; more go through files
_BUCKETS = 64
_ODD = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9)  # odd multipliers of a mixing function
Marks = npt.NDArray[np.uint64]


def marks_of(records: Records) -> Marks:
    """A mark of 64 bits of the place of each point: unlike places share one with a chance of 2^-64."""
    mixed = np.zeros(len(records), np.uint64)
    with np.errstate(over="ignore"):
        for axis, odd in zip("XYZ", _ODD, strict=True):
            mixed = (mixed ^ records[axis].astype(np.int64).view(np.uint64)) * np.uint64(odd)
            mixed ^= mixed >> np.uint64(29)
        mixed *= np.uint64(_ODD[0])
    return mixed ^ (mixed >> np.uint64(32))


class Duplicates:
    """Counts in passing: `add` marks, then `count`. Use as a context: files it made are removed."""

    def __init__(self) -> None:
        self._held: list[Marks] = []
        self._number = 0
        self._folder: OwnedFolder | None = None

    def __enter__(self) -> Duplicates:
        return self

    def __exit__(self, *exc: object) -> None:
        if self._folder is not None:
            self._folder.remove()

    def add(self, marks: Marks) -> None:
        self._held.append(marks)
        self._number += len(marks)
        if self._number > _HELD:
            self._spill()

    def count(self) -> int:
        """Points that lie where one before them lies."""
        if self._folder is None:
            return _repeated(np.concatenate(self._held)) if self._held else 0
        self._spill()
        files = self._folder.path.glob("*.marks")
        return sum(_repeated(np.fromfile(file, np.uint64)) for file in files)

    def _spill(self) -> None:
        if self._folder is None:
            self._folder = temporary()
        marks = np.concatenate(self._held) if self._held else np.zeros(0, np.uint64)
        bucket = (marks >> np.uint64(58)).astype(np.uint8)
        order = np.argsort(bucket, kind="stable")
        ends = np.searchsorted(bucket[order], np.arange(_BUCKETS + 1))
        for n in range(_BUCKETS):
            with (self._folder.path / f"{n}.marks").open("ab") as file:
                file.write(marks[order[ends[n] : ends[n + 1]]].tobytes())
        self._held, self._number = [], 0


def _repeated(marks: Marks) -> int:
    marks.sort()
    return int(np.count_nonzero(marks[1:] == marks[:-1]))
