"""A formula of five layers: in memory against fused arrays, and whole runs on files against a copy."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, in_turn
from workers import Hills
from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.formats import load

OVER_COPY = 2.0  # times a plain copy


def cases(folder: Path) -> Iterator[Result]:
    said = subprocess.run(
        [sys.executable, str(HERE / "warmderive.py")], check=True, capture_output=True, text=True
    )
    ours, theirs = map(float, said.stdout.split())
    yield Result(
        "formula of five layers in memory, to fused arrays", ours / theirs, 1.0, note=f"{ours:.3f} s"
    )
    hills = Hills(False)
    options = {"compress": "deflate", "overviews": "no"}
    run(hills, load("geotiff").make_sink(folder / "hills.tif", hills.frame, hills.bands, options), Limits())
    rest = ["--out", "o.tif", "--replace", "--quiet", "--set", "overviews=no"]
    formula = ["--formula", "where(value > 300, value * 3.28084 + deviation_around(value, 2), 0)"]
    copy = [*ZEMBREL, "convert", "hills.tif", *rest]
    derived, plain = in_turn([*ZEMBREL, "derive", "hills.tif", *formula, *rest], copy, 3, folder)
    note = f"{derived.seconds:.1f} s against {plain.seconds:.1f} s, {derived.memory / 1e6:.0f} MB"
    ratio = derived.seconds / plain.seconds
    yield Result("formula with neighbours of a file, to a copy of it", ratio, OVER_COPY, note=note)
