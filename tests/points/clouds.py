"""Small clouds for tests: blocks of points, files of them, and what is in a file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.engine.points import flow
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.points.files import make_sink, open_points
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointBlock, PointSource, Scaling
from zembrel.points.records import Layout, put_values

HOME = by_code(32626)
PLACE = Scaling((0.01, 0.01, 0.01), (730_000.0, 5_100_000.0, 0.0))
LINEAR = Limits(workers=1)


def cloud(
    count: int = 1000, layout: Layout | None = None, seed: int = 1, side: float = 100.0, **values: Any
) -> PointBlock:
    """Points by chance in a square whose lower corner is the offset; z between 0 and 50; other values as given."""
    random, layout = np.random.default_rng(seed), layout or Layout(6)
    made = np.zeros(count, layout.dtype)
    made["X"], made["Y"] = random.integers(0, int(side * 100), (2, count))
    made["Z"] = random.integers(0, 5000, count)
    made["intensity"] = random.integers(0, 60_000, count)
    put_values(made, layout, "return", 1)
    put_values(made, layout, "returns", 1)
    for name, given in values.items():
        put_values(made, layout, name, given)
    return PointBlock(made, layout, PLACE)


def at(x: Any, y: Any, z: Any, **values: Any) -> PointBlock:
    """Points at places counted from the offset, in metres."""
    block = cloud(len(x), **values)
    for axis, given in zip("XYZ", (x, y, z), strict=True):
        block.records[axis] = np.rint(np.asarray(given, float) * 100)
    return block


def write(path: Path, block: PointBlock, crs: CRS | None = HOME, **more: Any) -> Path:
    """Write the points of a block to a new file."""
    new = NewFile(block.layout, block.scaling, crs, path.suffix == ".laz", len(block), **more)
    flow([block] if len(block) else [], make_sink(path, new, path), LINEAR)
    return path


def whole(source: PointSource | Path) -> PointBlock:
    """All points of a file or source."""
    source = open_points(source) if isinstance(source, Path) else source
    blocks = [source.read(part) for part in source.parts]
    layout, scaling = source.cloud.layout, source.cloud.scaling
    return PointBlock(
        np.concatenate([np.zeros(0, layout.dtype), *(b.records for b in blocks)]), layout, scaling
    )
