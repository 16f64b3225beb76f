"""Charts against the clock and against another quantizing; and the memory of packs."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

import zembrel
from measure import ZEMBREL, Result, least, used
from scene import frame, write_scene
from zembrel.raster.perceptual import difference

SECONDS, COLOURS, MEMORY, GROWTH = 6.0, 1.0, 600e6, 1.3
SIDE, LARGE = 4_000, 16_000
PACKS = {
    "chart": ("a.kap",),
    "globe": ("a.kmz",),
    "heightmap": ("a/", "--overlay", "photo.tif"),
    "chips": ("a.tfrecord", "--cells", "512"),
}


def cases(folder: Path) -> Iterator[Result]:
    write_scene(folder / "photo.tif", frame(SIDE, SIDE))
    chart = [*ZEMBREL, "deliver", "chart", "photo.tif", "--quiet", "--replace", "--out", "a.kap"]
    seconds = least([used(chart, folder) for _ in range(3)]).seconds
    yield Result(f"chart of {SIDE:,} square", seconds, SECONDS, "s")
    peaks: dict[str, list[float]] = {name: [] for name in PACKS}
    for side in (SIDE, LARGE):
        write_scene(folder / "photo.tif", frame(side, side))
        for name, (out, *more) in PACKS.items():
            if name == "heightmap":
                write = [*ZEMBREL, "derive", "--let", "p=photo.tif", "--formula", "p.red + 0.5", "--replace"]
                used([*write, "--quiet", "--out", "dem.tif"], folder)
            source = "dem.tif" if name == "heightmap" else "photo.tif"
            target = out if not out.endswith("/") else f"{side}{out}"
            words = [*ZEMBREL, "deliver", name, source, *more, "--quiet", "--replace", "--out", target]
            peaks[name].append(used(words, folder).memory)
    for name, (small, large) in peaks.items():
        yield Result(f"memory of a {name}, in bytes", large, MEMORY, "bytes")
        yield Result(f"memory of a {name}, four times the side", large / small, GROWTH)
    write_scene(folder / "photo.tif", frame(SIDE, SIDE))
    used(chart, folder)
    # last: what a process holds counts for those it starts
    ours, theirs = _differences(folder)
    note = f"{ours:.2f} against {theirs:.2f}"
    yield Result("colours of a chart, to Pillow's best 127 with dithering", ours / theirs, COLOURS, note=note)


def _differences(folder: Path) -> tuple[float, float]:
    """Mean differences in CIELAB to the cells it shows: of the chart, and of the best of other ways."""
    there = zembrel.open(folder / "a.kap")
    source: Any = zembrel.reproject(folder / "photo.tif", crs="EPSG:3395")
    block = source.cells(source.frame.pane)
    known = block.anywhere
    cells = np.where(known[..., None], np.moveaxis(block.cells, 0, -1), 255).astype(np.uint8)

    def mean(shown: Any) -> float:
        strips = [slice(n, n + 200) for n in range(0, len(cells), 200)]
        parts = [difference(cells[rows], shown[rows])[known[rows]] for rows in strips]
        return float(np.concatenate(parts).mean())

    ours = mean(there.bands[0].legend.table()[there.cells(there.frame.pane).cells[0]])
    theirs = []
    for method in (Image.Quantize.MEDIANCUT, Image.Quantize.MAXCOVERAGE, Image.Quantize.FASTOCTREE):
        for rounds in (0, 3):
            palette = Image.fromarray(cells).quantize(127, method, kmeans=rounds)
            made = Image.fromarray(cells).quantize(palette=palette, dither=Image.Dither.FLOYDSTEINBERG)
            theirs.append(mean(np.asarray(made.convert("RGB"))))
    return ours, min(theirs)
