"""Palettes: made of the colours that are there, and dithered without changing the picture as a whole."""

from __future__ import annotations

import numpy as np
import pytest

from rasters import random_cells, raster
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.quantize import ColourCounts, median_cut, nearest_table
from zembrel.raster.views.quantized import Quantized

RAMP = np.stack(np.broadcast_arrays(np.arange(300)[:, None] * 0.8, np.arange(320) * 0.7, 90)).astype(np.uint8)
FEW = np.array([[200, 30, 40], [20, 180, 60], [10, 20, 220], [250, 250, 250]], np.uint8)


def counted(cells: np.ndarray) -> ColourCounts:
    counts = ColourCounts()
    view = raster(cells)
    for pane in view.frame.pane.blocks(64, 64):
        counts.note(counts.look(pane, view.cells(pane)))
    return counts


def test_a_picture_of_few_colours_keeps_them_exactly() -> None:
    cells = FEW[random_cells(50, 60) % 4].transpose(2, 0, 1)
    palette = median_cut(counted(cells), 16)
    assert {entry.colour for entry in palette.entries} == {tuple(c) for c in FEW.tolist()}
    block = Quantized(raster(cells), palette, "none").cells(Pane(0, 0, 50, 60))
    np.testing.assert_array_equal(palette.table()[block.cells[0]].transpose(2, 0, 1), cells)


@pytest.mark.parametrize("most", [2, 9, 64, 256])
def test_no_more_colours_than_asked_for_and_errors_shrink(most: int) -> None:
    palette = median_cut(counted(RAMP), most)
    assert 2 <= len(palette.entries) <= most
    codes = Quantized(raster(RAMP), palette, "none").cells(Pane(0, 0, 300, 320)).cells[0]
    gap = palette.table()[codes].transpose(2, 0, 1).astype(float) - RAMP
    assert np.sqrt((gap**2).mean()) < 110 / most**0.5 + 4


@pytest.mark.parametrize("dither, most", [("diffusion", 2.0), ("ordered", 6.0)])
def test_dithering_keeps_the_mean_of_every_neighbourhood(dither: str, most: float) -> None:
    """Of four greys: means over 20 x 20 cells are those of the picture, which plain rounding misses by 20."""
    grey = np.stack([RAMP[0]] * 3)
    palette = Legend.of(LegendEntry(n, "", (n * 80,) * 3) for n in range(4))

    def worst(way: str) -> float:
        codes = Quantized(raster(grey), palette, way).cells(Pane(0, 0, 300, 320)).cells[0]
        gap = palette.table()[codes][..., 0].astype(float) - grey[0]
        return float(np.abs(gap.reshape(15, 20, 16, 20).mean(axis=(1, 3))).max())

    assert worst(dither) < most < 20 < worst("none")


def test_the_table_is_the_nearest_entry() -> None:
    palette = Legend.of(LegendEntry(n, "", tuple(c)) for n, c in enumerate(random_cells(40, 3).tolist()))  # type: ignore[arg-type]
    table = nearest_table(palette)
    for at in np.random.default_rng(2).integers(0, table.size, 300).tolist():
        colour = np.array([at >> 12, at >> 6 & 63, at & 63]) * 4 + 2.0
        away = [float(((np.array(entry.colour) - colour) ** 2).sum()) for entry in palette.entries]
        assert away[int(table[at])] == min(away)
