"""Laws that every raster obeys, inherited by the tests of each."""

from __future__ import annotations

import numpy as np
import pytest

import depth
from zembrel.raster.model import Raster


class RasterLaws:
    """Inherit and define `make`; every law below is then tested."""

    def make(self) -> Raster:
        raise NotImplementedError

    @pytest.mark.parametrize("side", depth.some([1, 7, 64, 10_000], [7, 64, 10_000]))
    def test_any_split_reads_the_same_cells(self, side: int) -> None:
        view = self.make()
        frame = view.frame
        whole = view.cells(frame.pane)
        assert whole.cells.shape == (len(view.bands), frame.rows, frame.columns)
        for pane in frame.pane.blocks(side, side):
            if side == 1 and (pane.top * 7 + pane.left) % 41:
                continue  # single cells: a scattering of them
            block = view.cells(pane)
            rows, columns = pane.within(frame.pane)
            for band in range(len(view.bands)):
                valid = whole.valid_of(band)[rows, columns]
                np.testing.assert_array_equal(block.valid_of(band), valid)
                np.testing.assert_array_equal(
                    block.cells[band][valid], whole.cells[band, rows, columns][valid]
                )

    def test_a_block_is_the_callers_own(self) -> None:
        view = self.make()
        first = view.cells(view.frame.pane)
        kept = first.cells.copy()
        first.cells[:] = 0
        np.testing.assert_array_equal(view.cells(view.frame.pane).cells, kept)
