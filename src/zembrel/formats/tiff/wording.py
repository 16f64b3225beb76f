"""What a TIFF image is to say of itself."""

from __future__ import annotations

from dataclasses import dataclass

from zembrel.grid.frame import Frame
from zembrel.raster.model import Band


@dataclass(frozen=True)
class Wording:
    """What the first image of a file shall say of itself."""

    frame: Frame
    bands: tuple[Band, ...]
    nodata: float | int | None
