"""Usage: warmterrain.py slope|hillshade. Says how many million cells a second two threads make in memory."""

from __future__ import annotations

import sys
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from scene import frame
from zembrel.grid.pane import Pane
from zembrel.opened.calls import call
from zembrel.raster.model import Band, Block

SIDE, BLOCK, ROUNDS = 8_192, 1_024, 5


class HeldHills:
    """Hills in memory."""

    def __init__(self) -> None:
        rows, columns = np.arange(SIDE, dtype=np.float32)[:, None], np.arange(SIDE, dtype=np.float32)
        self.heights = (300 + 120 * np.sin(columns / 71) * np.cos(rows / 53))[None]
        self.frame, self.bands = frame(SIDE, SIDE), (Band("height", "float32", unit="m"),)

    def cells(self, pane: Pane) -> Block:
        return Block(self.heights[:, *pane.within(self.frame.pane)].copy())


def main(name: str) -> None:
    source = HeldHills()
    view = call("terrain", source, of=(name,))
    panes = list(source.frame.pane.blocks(BLOCK, BLOCK))
    with ThreadPoolExecutor(2) as pool:
        best = 0.0
        for _ in range(ROUNDS):
            begun = time.perf_counter()
            for _ in pool.map(lambda pane: view.cells(pane).cells[0, 0, 0], panes):
                pass
            best = max(best, SIDE * SIDE / (time.perf_counter() - begun) / 1e6)
    print(best)


if __name__ == "__main__":
    main(sys.argv[1])
