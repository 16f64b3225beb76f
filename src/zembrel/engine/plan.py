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
        folder = self.out if self.out.is_dir() else self.out.parent
        while not folder.exists() and folder != folder.parent:
            folder = folder.parent
        return shutil.disk_usage(folder).free

    def check(self, ceiling: int, command: str) -> None:
        """Raise RefusedError past the ceiling or the free space; `command` is what would go on."""
        if self.bytes_at_most > ceiling:
            ceiling_needed = f"{-(-self.bytes_at_most // 10**9)}GB"
            raise RefusedError(
                f"{self.out} would take up to {show_bytes(self.bytes_at_most)}",
                f"{self.frame.columns:,} x {self.frame.rows:,} cells of {len(self.bands)} band(s) pass the "
                f"ceiling of {show_bytes(ceiling)}",
                f"{command} --ceiling {ceiling_needed}",
            )
        if self.bytes_at_most > self.free:
            raise RefusedError(
                f"{self.out} would take up to {show_bytes(self.bytes_at_most)}",
                f"only {show_bytes(self.free)} are free there",
                "free some space, or choose another disk with --out",
            )
