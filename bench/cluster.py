"""A mosaic on a cluster of two workers of this machine, against two threads."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, used
from scene import write_scene
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame

sys.path.append(str(HERE.parent / "tests"))  # whose clusters are the same
OVERHEAD = 1.25
SIDE = 10_000  # of a sheet; four of them


def cases(folder: Path) -> Iterator[Result]:
    """Figures of the cluster."""
    from schedulers import scheduler

    for n in range(4):
        left, top = 730_000 + SIDE / 2 * (n % 2), 5_100_000 - SIDE / 2 * (n // 2)
        frame = Frame(by_code(32626), Affine(left, top, 0.5, -0.5), SIDE, SIDE)
        write_scene(folder / f"sheet{n}.tif", frame)
    words = [*ZEMBREL, "mosaic", *(f"sheet{n}.tif" for n in range(4)), "--quiet", "--replace", "--out"]
    with scheduler(folder, 2) as (address, _):
        times = []
        for _ in range(3):  # the first one loads what workers need
            there = used([*words, "there.tif", "--cluster", address], folder).seconds
            here = used([*words, "here.tif", "--workers", "2"], folder).seconds
            times.append((there, here))
    there, here = min(one for one, _ in times[1:]), min(other for _, other in times[1:])
    same = (folder / "here.tif").read_bytes() == (folder / "there.tif").read_bytes()
    note = f"{there:.1f} s against {here:.1f} s" + ("" if same else ", and other bytes")
    yield Result("mosaic of 20,000 square on a cluster, to threads", there / here, OVERHEAD, note=note)
