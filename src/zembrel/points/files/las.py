"""LAS and LAZ among the point formats."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zembrel.handles import Readable
from zembrel.points.files import Reading
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.laswriting import NewFile, las_sink
from zembrel.points.model import PointSource
from zembrel.points.sink import PointSink


def open_points(path: Readable, reading: Reading) -> PointSource:
    """The file at `path`. Raises InputError."""
    return open_las(path, salvage=reading.salvage)


def make_sink(path: Path, new: NewFile) -> PointSink:
    """A sink of records, packed if the name ends in .laz."""
    return las_sink(path, replace(new, compressed=path.suffix.lower() == ".laz"))


def lacking(new: NewFile) -> tuple[str, ...]:
    """Values that such a file does not hold: none."""
    return ()


def is_ours(path: Path) -> bool:
    return True
