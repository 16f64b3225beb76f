"""Whole-process memory on an image of 20,000 x 20,000 x 3 bytes (1.2 GB of cells)."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from measure import ZEMBREL, Result, used
from scene import frame, write_scene

SIDE = 20_000
LIMIT = 800  # MB


def cases(folder: Path) -> Iterator[Result]:
    source, half = folder / "source.tif", folder / "half.tif"
    write_scene(source, frame(SIDE, SIDE))
    write_scene(half, frame(SIDE, SIDE // 2, left=725_000 + SIDE / 2))
    area = "730000,5090000,740000,5100000"
    for verb, more in (
        ("mosaic", [str(half), "--method", "bilinear"]),
        ("clip", ["--within", area]),
        ("reproject", ["--crs", "EPSG:32627"]),
        ("describe", ["--stats"]),
    ):
        out = [] if verb == "describe" else ["--out", str(folder / "result.tif"), "--replace", "--quiet"]
        usage = used([*ZEMBREL, verb, str(source), *more, *out])
        yield Result(
            f"memory of {verb}, 20,000 x 20,000 x 3",
            usage.memory / 1e6,
            LIMIT,
            "MB",
            f"{usage.seconds:.1f} s",
        )
