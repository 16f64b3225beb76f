"""Usage: warmderive.py. Says how long two threads take for a formula of five layers in memory, and the array
package that fuses such formulas, in turn."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numexpr
import numpy as np

from scene import frame
from zembrel.grid.pane import Pane
from zembrel.opened.calls import call
from zembrel.raster.model import Band, Block

SIDE, ROWS, ROUNDS = 4_096, 512, 9
FORMULA = "(a - b) / (a + b) * c + d * e"


class Held:
    """Numbers in memory."""

    def __init__(self, seed: int) -> None:
        self.values = np.random.default_rng(seed).random((1, SIDE, SIDE), np.float32) + np.float32(1)
        self.frame, self.bands = frame(SIDE, SIDE), (Band("value", "float32"),)

    def cells(self, pane: Pane) -> Block:
        return Block(self.values[:, *pane.within(self.frame.pane)])


def main() -> None:
    layers = {name: Held(number) for number, name in enumerate("abcde")}
    view: Any = call("derive", let=layers, formula=FORMULA)
    panes = list(view.frame.pane.blocks(ROWS, SIDE))
    arrays = {name: layer.values[0] for name, layer in layers.items()}
    numexpr.set_num_threads(2)
    ours, theirs = [], []
    with ThreadPoolExecutor(2) as pool:
        for _ in range(ROUNDS):
            begun = time.perf_counter()
            for _ in pool.map(lambda pane: view.cells(pane).cells[0, 0, 0], panes):
                pass
            ours.append(time.perf_counter() - begun)
            begun = time.perf_counter()
            other = numexpr.evaluate(FORMULA, arrays)
            theirs.append(time.perf_counter() - begun)
    assert np.allclose(view.cells(view.frame.pane).cells[0], other, rtol=1e-5)
    print(min(ours), min(theirs))


if __name__ == "__main__":
    main()
