"""Grid formats against the speed asked for: text read and written on one core."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from measure import Result
from plain import Nothing
from scene import frame
from zembrel.engine.run import Means, observe, run
from zembrel.formats import load, open_raster
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block
from zembrel.verbs.survey import blocks_of

SIDE = 6_000
READ, WRITE = 40, 60  # MB a second, at least


class Heights:
    """Heights in centimetres."""

    bands = (Band("elevation", "float32", unit="m"),)

    def __init__(self, where: Frame) -> None:
        self.frame = where
        self.held = np.random.default_rng(1).normal(300, 100, (where.rows, where.columns))
        self.held = self.held.round(2).astype(np.float32)

    def cells(self, pane: Pane) -> Block:
        return Block(self.held[None, *pane.within(self.frame.pane)].copy())


def cases(folder: Path) -> Iterator[Result]:
    path, view, one = folder / "heights.asc", Heights(frame(SIDE, SIDE)), Means(workers=1)
    writing, reading = [], []
    for _ in range(4):
        started = time.perf_counter()
        run(view, load("asciigrid").make_sink(path, view.frame, view.bands, {}), one)
        writing.append(time.perf_counter() - started)
        started = time.perf_counter()
        source = open_raster(path)
        observe(source, blocks_of(source), [Nothing()], one)
        reading.append(time.perf_counter() - started)
    size = path.stat().st_size / 1e6
    for what, seconds, due in (("read", min(reading), READ), ("written", min(writing), WRITE)):
        speed = size / seconds
        note = f"{speed:.0f} MB/s, {size:.0f} MB"
        yield Result(f"ASCII grid {what}, time against {due} MB/s", due / speed, 1.0, note=note)
