"""The plain ways to read, write and mosaic TIFFs: whole arrays, general packages, two threads.

Usage: plain.py make|write-ours|write-plain|read-ours|read-plain|mosaic ...
Reading and writing are done once with a small part first and then timed; the seconds are printed.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import tifffile

from scene import RGB, Scene, frame
from zembrel.engine.limits import Limits
from zembrel.engine.run import observe, run
from zembrel.formats import load, open_raster
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.passes.survey import blocks_of
from zembrel.raster.model import Block

TILE, WORKERS, SMALL = 512, 2, 8_000
CODECS = {
    "deflate": {"compression": "zlib", "compressionargs": {"level": 6}, "predictor": 2},
    "lzw": {"compression": "lzw", "predictor": 2},
    "zstd": {"compression": "zstd", "compressionargs": {"level": 9}, "predictor": 2},
    "jpeg": {"compression": "jpeg", "compressionargs": {"level": 90}},
}


@dataclass(frozen=True, eq=False)
class Held:
    """Cells in memory, (3, rows, columns)."""

    frame: Frame
    held: np.ndarray
    bands = RGB

    def cells(self, pane: Pane) -> Block:
        rows, columns = pane.within(self.frame.pane)
        return Block(self.held[:, rows, columns])  # sinks only read


class Nothing:
    """An observer that looks at nothing."""

    def look(self, pane: Pane, block: Block) -> None: ...
    def note(self, seen: None) -> None: ...


def make(path: str, side: str) -> None:
    where = frame(int(side), int(side))
    cells = np.empty((where.rows, where.columns, 3), np.uint8)
    for pane in where.pane.blocks(1024, 1024):
        cells[pane.within(where.pane)] = Scene(where).cells(pane).cells.transpose(1, 2, 0)
    np.save(path, cells)


def timed(work: Callable[[np.ndarray | str], None], small: np.ndarray | str, large: np.ndarray | str) -> None:
    work(small)
    started = time.perf_counter()
    work(large)
    print(time.perf_counter() - started)


def write_ours(cells: str, out: str, codec: str) -> None:
    compress = {"deflate": "deflate:6", "zstd": "zstd:9", "jpeg": "jpeg:90"}.get(codec, codec)
    settings = {"overviews": "no", "compress": compress}

    def work(held: np.ndarray) -> None:
        view = Held(frame(held.shape[2], held.shape[1]), held)
        run(view, load("geotiff").make_sink(Path(out), view.frame, RGB, settings), Limits(workers=WORKERS))

    held = np.ascontiguousarray(np.load(cells).transpose(2, 0, 1))
    timed(work, held[:, :SMALL, :SMALL], held)


def write_plain(cells: str, out: str, codec: str) -> None:
    photometric = "ycbcr" if codec == "jpeg" else "rgb"
    options = {"tile": (TILE, TILE), "photometric": photometric, "maxworkers": WORKERS}
    held = np.load(cells)
    timed(lambda part: tifffile.imwrite(out, part, **options, **CODECS[codec]), held[:SMALL, :SMALL], held)


def read_ours(path: str) -> None:
    def work(name: str) -> None:
        source = open_raster(Path(name))
        observe(source, blocks_of(source), [Nothing()], Limits(workers=WORKERS))

    timed(work, path, path)


def read_plain(path: str) -> None:
    timed(lambda name: tifffile.imread(name, maxworkers=WORKERS), path, path)


def mosaic(folder: str, out: str, across: str) -> None:
    """Sheets in the order of their names, `across` in a row, side by side."""
    count, whole = int(across), None
    for n, path in enumerate(sorted(Path(folder).iterdir())):
        sheet = tifffile.imread(path, maxworkers=WORKERS)
        rows, columns = sheet.shape[:2]
        if whole is None:
            whole = np.empty((count * rows, count * columns, 3), np.uint8)
        row, column = divmod(n, count)
        whole[row * rows : (row + 1) * rows, column * columns : (column + 1) * columns] = sheet
    options = {"tile": (TILE, TILE), "photometric": "rgb", "maxworkers": WORKERS}
    tifffile.imwrite(out, whole, **options, **CODECS["deflate"])


if __name__ == "__main__":
    globals()[sys.argv[1].replace("-", "_")](*sys.argv[2:])
