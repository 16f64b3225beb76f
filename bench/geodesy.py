"""Projections on one core, the registry in a new process, and a million lines of coordinates."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from statistics import median

import numpy as np

from measure import ZEMBREL, Result, used
from zembrel.geodesy.registry import by_code

MAPS = {"UTM": 32632, "Lambert conic": 2154}
POINTS = 1_000_000
PORTION = 65_536  # points at a time, as a block of a raster has them
RESOLVE = """import time
from zembrel.geodesy.registry import parse_crs
started = time.perf_counter()
parse_crs("EPSG:32632")
print(time.perf_counter() - started)"""


def cases(folder: Path) -> Iterator[Result]:
    rng = np.random.default_rng(3)
    lon, lat = np.radians(rng.uniform(5, 9, POINTS)), np.radians(rng.uniform(43, 50, POINTS))
    for name, code in MAPS.items():
        crs = by_code(code)
        x, y = crs.from_geographic(lon, lat)
        for way, call, pair in (
            ("forward", crs.from_geographic, (lon, lat)),
            ("inverse", crs.to_geographic, (x, y)),
        ):
            seconds = _seconds(call, *pair)
            note = f"{POINTS / seconds / 1e6:.1f} million points a second"
            yield Result(f"{name} {way}, a million points on one core", seconds, 0.25, "s", note)
    cold = [float(subprocess.check_output([sys.executable, "-c", RESOLVE])) for _ in range(7)]
    yield Result("EPSG:code resolved in a new process, after imports", 1000 * median(cold), 15, "ms")
    lines = folder / "points.csv"
    np.savetxt(lines, np.degrees([lon, lat]).T, "%.17g", ",")
    words = ["coords", "--from-crs", "EPSG:4326", "--crs", "EPSG:32632", "--inputs-from", str(lines)]
    yield Result("coords, a million lines", used([*ZEMBREL, *words]).seconds, 4, "s")


def _seconds(call: Callable[..., object], one: np.ndarray, other: np.ndarray) -> float:
    """The median of five runs over all points, in portions."""
    taken = []
    for _ in range(5):
        started = time.perf_counter()
        for at in range(0, len(one), PORTION):
            call(one[at : at + PORTION], other[at : at + PORTION])
        taken.append(time.perf_counter() - started)
    return median(taken)
