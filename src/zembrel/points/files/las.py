"""LAS and LAZ among the point formats."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zembrel.points.files import PointWriter, Reading
from zembrel.points.las.reading import open_las
from zembrel.points.las.writing import LasWriter, NewFile
from zembrel.points.model import PointSource


def open_points(path: Path, reading: Reading) -> PointSource:
    """The file at `path`. Raises InputError."""
    return open_las(path, salvage=reading.salvage)


def make_writer(path: Path, new: NewFile) -> PointWriter:
    """A writer of records, packed if the name ends in .laz."""
    return LasWriter(path, replace(new, compressed=path.suffix.lower() == ".laz"))


def is_ours(path: Path) -> bool:
    return True
