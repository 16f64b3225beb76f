"""Reprojecting 10,000 x 10,000 x 3 bytes from UTM 26N to 27N, Deflate in and out."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, in_turn
from scene import frame, write_scene

SIDE = 10_000
TIME_LIMIT = 0.8
OVERVIEWS = 4 / 3  # cells written, where the other writes none


def cases(folder: Path) -> Iterator[Result]:
    source, ours, theirs = folder / "source.tif", folder / "ours.tif", folder / "theirs.tif"
    write_scene(source, frame(SIDE, SIDE))
    move = [*ZEMBREL, "reproject", str(source), "--crs", "EPSG:32627", "--method", "bilinear"]
    place = ["--out", str(ours), "--replace", "--quiet", "--workers", "2"]
    other = [sys.executable, str(HERE / "comparator.py"), str(source), str(theirs), "bilinear"]
    for name, more, share in (
        ("without overviews, like the other", ["--set", "overviews=no"], 1.0),
        ("with overviews, a third more cells", [], OVERVIEWS),
    ):
        mine, plain = in_turn([*move, *place, *more], other, 7)
        note = f"{mine.seconds:.1f} s against {plain.seconds:.1f} s"
        memory = (
            f"memory {mine.memory / plain.memory:.2f}, file {ours.stat().st_size / theirs.stat().st_size:.3f}"
        )
        yield Result(
            f"reproject {name}", mine.seconds / plain.seconds, TIME_LIMIT * share, note=f"{note}, {memory}"
        )
