"""Reprojecting 10,000 x 10,000 x 3 bytes from UTM 26N to 27N, Deflate in and out."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, in_turn
from scene import frame, write_scene

SIDE = 10_000
TIME_LIMIT, LANCZOS_LIMIT, MEMORY_LIMIT, SIZE_LIMIT = 0.55, 1.0, 0.4, 1.03
OVERVIEWS = 4 / 3  # cells written, where the other writes none


def cases(folder: Path) -> Iterator[Result]:
    source, ours, theirs = folder / "source.tif", folder / "ours.tif", folder / "theirs.tif"
    write_scene(source, frame(SIDE, SIDE))
    place = ["--out", str(ours), "--replace", "--quiet", "--workers", "2"]
    for name, method, more, limit in (
        ("bilinear, without overviews like the other", "bilinear", ["--set", "overviews=no"], TIME_LIMIT),
        ("bilinear, with overviews (a third more cells)", "bilinear", [], TIME_LIMIT * OVERVIEWS),
        ("lanczos, without overviews", "lanczos", ["--set", "overviews=no"], LANCZOS_LIMIT),
    ):
        move = [*ZEMBREL, "reproject", str(source), "--crs", "EPSG:32627", "--method", method]
        other = [sys.executable, str(HERE / "comparator.py"), str(source), str(theirs), method]
        mine, plain = in_turn([*move, *place, *more], other, 7 if method == "bilinear" else 3)
        note = f"{mine.seconds:.1f} s against {plain.seconds:.1f} s"
        yield Result(f"reproject {name}", mine.seconds / plain.seconds, limit, note=note)
        if more and method == "bilinear":
            yield Result("its memory", mine.memory / plain.memory, MEMORY_LIMIT)
            yield Result("its file", ours.stat().st_size / theirs.stat().st_size, SIZE_LIMIT)
