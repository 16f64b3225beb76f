"""What a run would make, known before it starts."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from zembrel.errors import RefusedError
from zembrel.grid.frame import Frame
from zembrel.measure import show_bytes
from zembrel.raster.model import Band

DEFAULT_CEILING = 20_000_000_000
_OVERVIEWS = 4 / 3  # a pyramid of halves


@dataclass(frozen=True)
class Plan:
    """The result's frame and bands, its bytes before compression and the free space at its place."""

    frame: Frame
    bands: tuple[Band, ...]
    out: Path

    @property
    def bytes_at_most(self) -> int:
        """Cells and overviews uncompressed: the result is not larger."""
        cell = sum(band.dtype.itemsize for band in self.bands)
        return int(self.frame.size * cell * _OVERVIEWS)

    @property
    def free(self) -> int:
        return free_at(self.out)

    def check(self, ceiling: int, command: str) -> None:
        """Raise RefusedError past the ceiling or the free space; `command` is what would go on."""
        what = f"{self.frame.columns:,} x {self.frame.rows:,} cells of {len(self.bands)} band(s)"
        check_room(self.out, self.bytes_at_most, ceiling, command, what)


def free_at(out: Path) -> int:
    """Free bytes where `out` is to be."""
    folder = out if out.is_dir() else out.parent
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    return shutil.disk_usage(folder).free


def check_room(out: Path, size: int, ceiling: int, command: str, what: str, fits: str = "") -> None:
    """Raise RefusedError if a result of `size` bytes passes the ceiling or the free space.

    fits: an option with which the result would pass the ceiling.
    """
    if size > ceiling and size > (free := free_at(out)) and not fits:
        raise RefusedError(
            f"{out} would take up to {show_bytes(size)}",
            f"{what} pass the ceiling of {show_bytes(ceiling)}, and {show_bytes(free)} are free",
            "choose larger cells or a smaller area",
        )
    if size > ceiling:
        raise RefusedError(
            f"{out} would take up to {show_bytes(size)}",
            f"{what} pass the ceiling of {show_bytes(ceiling)}",
            f"{f'add {fits}, or ' if fits else ''}{command} --ceiling {-(-size // 10**9)}GB",
        )
    if size > (free := free_at(out)):
        raise RefusedError(
            f"{out} would take up to {show_bytes(size)}",
            f"only {show_bytes(free)} are free there",
            "free some space, or choose another disk with --out",
        )
