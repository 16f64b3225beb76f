"""Pyramids of tiles, against encoding the same tiles alone; stores against inserting; and memory."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, told, told_in_turn, used
from scene import write_scene
from zembrel.grid.tiling import TILINGS, TileRange

ENCODING, INSERTING, MEMORY, GROWTH = 1.15, 1.3, 600e6, 1.15
TILES, ZOOM = 62, 17  # tiles along a side: 15,872 cells
TURNS = 2
SIDES = TILES // 2, 2 * TILES, TILES  # the first one fills the memory for held blocks already


def cases(folder: Path) -> Iterator[Result]:
    for kind in ("mbtiles", "pmtiles"):
        put = [sys.executable, str(HERE / "puttiles.py"), kind, "100000"]
        ours, plain = told_in_turn([*put, "ours"], [*put, "alone"], 9)
        note = f"{ours:.1f} s against {plain:.1f} s"
        yield Result(f"100,000 small tiles into {kind}", ours / plain, INSERTING, note=note)
    web = TILINGS["WebMercatorQuad"]
    peaks = []
    for tiles in SIDES:
        where = web.frame_of(TileRange(ZOOM, 56_800, 46_600, 56_800 + tiles, 46_600 + tiles), 256)
        write_scene(folder / "photo.tif", where)
        words = [*ZEMBREL, "deliver", "pyramid", "photo.tif", "--quiet", "--replace", "--out", "a.zip"]
        peaks.append(used([*words, "--tile-format", "jpeg"], folder).memory)
    small, large, _ = peaks
    yield Result("memory of a pyramid, in bytes", large, MEMORY, "bytes")
    yield Result("memory of a pyramid, four times the side", large / small, GROWTH)
    for form in ("png", "webp", "jpeg"):
        seconds = []
        for _ in range(TURNS):
            ours = used([*words, "--tile-format", form], folder).seconds
            if form == "png":  # loses nothing: from it are the cells that codecs get alone
                (folder / "a.zip").replace(folder / "cells.zip")
            plain = told([sys.executable, str(HERE / "encodetiles.py"), str(folder / "cells.zip"), form])
            seconds.append((ours, plain))
        ours, plain = (min(times) for times in zip(*seconds, strict=True))
        note = f"{ours:.1f} s against {plain:.1f} s"
        yield Result(
            f"pyramid of a photo as {form}, to encoding its tiles", ours / plain, ENCODING, note=note
        )
