"""Two rasters compared, against reading both; and whether memory grows with their size."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, in_turn, used
from scene import frame
from workers import Hills
from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.formats import load

OVER_READING, GROWTH = 1.3, 1.15
SMALL, MIDDLE, LARGE = 5_000, 10_000, 20_000


def cases(folder: Path) -> Iterator[Result]:
    for part in "ab":
        hills = Hills(False)
        hills.frame = frame(MIDDLE, MIDDLE)
        run(
            hills,
            load("geotiff").make_sink(folder / f"{part}.tif", hills.frame, hills.bands, PLAIN),
            Limits(),
        )
    compare = [*ZEMBREL, "compare", "a.tif", "b.tif", "--quiet"]
    reading = [sys.executable, str(HERE / "readboth.py"), "a.tif", "b.tif"]
    ours, plain = in_turn(compare, reading, 3, folder)
    note = f"{ours.seconds:.1f} s against {plain.seconds:.1f} s"
    yield Result("compare of heights, to reading both", ours.seconds / plain.seconds, OVER_READING, note=note)
    peaks = []
    for side in (SMALL, LARGE):
        hills = Hills(True)
        hills.frame = frame(side, side)
        run(hills, load("geotiff").make_sink(folder / "a.tif", hills.frame, hills.bands, PLAIN), Limits())
        shutil.copy(folder / "a.tif", folder / "b.tif")
        peaks.append(
            used([*ZEMBREL, "compare", "a.tif", "b.tif", "--quiet", "--memory", "64MB"], folder).memory
        )
    yield Result(
        "memory of compare, four times the side", peaks[1] / peaks[0], GROWTH, note=f"{peaks[1] / 1e6:.0f} MB"
    )


PLAIN = {"compress": "deflate", "overviews": "no"}
