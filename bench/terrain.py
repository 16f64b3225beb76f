"""Slope and hillshade: cells a second in memory, and whole runs against decoding and encoding alone."""

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

RATE, OVER_COPY = 120.0, 1.2  # million cells a second on two processors; times a plain copy


def cases(folder: Path) -> Iterator[Result]:
    for name in ("slope", "hillshade"):
        said = subprocess.run(
            [sys.executable, str(HERE / "warmterrain.py"), name], check=True, capture_output=True, text=True
        )
        rate = float(said.stdout.split()[-1])
        yield Result(
            f"{name} in memory, least rate to its rate", RATE / rate, 1.0, "", f"{rate:.0f} million/s"
        )
    hills = Hills(False)
    options = {"compress": "deflate", "overviews": "no"}
    run(hills, load("geotiff").make_sink(folder / "hills.tif", hills.frame, hills.bands, options), Limits())
    rest = ["--out", "o.tif", "--replace", "--quiet", "--set", "overviews=no"]
    copy = [*ZEMBREL, "convert", "hills.tif", *rest]
    for name in ("slope", "hillshade"):
        ours, plain = in_turn([*ZEMBREL, "terrain", "hills.tif", "--of", name, *rest], copy, 3, folder)
        note = f"{ours.seconds:.1f} s against {plain.seconds:.1f} s, {ours.memory / 1e6:.0f} MB"
        yield Result(f"{name} of a file, to a copy of it", ours.seconds / plain.seconds, OVER_COPY, note=note)
