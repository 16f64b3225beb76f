"""Bounds of the parts of a cloud, which its file does not tell, kept in a small file beside it when asked."""

from __future__ import annotations

import zlib
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.points.las.source import LasSource
from zembrel.points.model import Part

ENDING = ".bounds"  # added to the name of the point file
_HEAD = 65_536  # bytes of the file whose checksum has to agree


def sidecar(path: Path) -> Path:
    """The file beside `path` that holds the bounds of its parts."""
    return path.with_name(path.name + ENDING)


def _stamp(path: Path) -> npt.NDArray[np.int64]:
    """What tells the file from any other: its size, its time, and a checksum of its beginning."""
    with path.open("rb") as file:
        head = zlib.crc32(file.read(_HEAD))
    found = path.stat()
    return np.array([found.st_size, found.st_mtime_ns, head], np.int64)


def with_bounds(source: LasSource) -> tuple[Part, ...] | None:
    """The parts with bounds from the file beside, if there is one that is of this very file."""
    if source.chunks is None or not isinstance(source.path, Path):
        return None
    beside = sidecar(source.path)
    if not beside.is_file():
        return None
    try:
        with np.load(beside, allow_pickle=False) as held:
            stamp, bounds = held["stamp"], held["bounds"]
    except (OSError, ValueError, KeyError, zlib.error):
        return None
    if bounds.shape != (len(source.parts), 6) or not np.array_equal(stamp, _stamp(source.path)):
        return None
    return tuple(
        part._replace(bounds=tuple(row)) for part, row in zip(source.parts, bounds.tolist(), strict=True)
    )


def write_bounds(target: Path, source: LasSource, bounds: npt.NDArray[np.float64]) -> None:
    """Keep the bounds (parts, 6) of a file's parts in `target`."""
    assert isinstance(source.path, Path)
    with target.open("wb") as file:
        np.savez_compressed(file, stamp=_stamp(source.path), bounds=bounds)
