"""Palettes: made of the colours that are there, and dithered without changing the picture as a whole."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image

from rasters import random_cells, raster
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.perceptual import difference, to_lab
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
        away = [float(difference(np.array(entry.colour), colour)) for entry in palette.entries]
        assert away[int(table[at])] == pytest.approx(min(away))


def test_colours_have_their_published_places() -> None:
    """B. Lindbloom's tables of the sRGB primaries, D65."""
    places = {
        (255, 0, 0): (53.24, 80.09, 67.20),
        (0, 255, 0): (87.73, -86.18, 83.18),
        (0, 0, 255): (32.30, 79.19, -107.86),
    }
    for colour, place in places.items():
        assert to_lab(np.array(colour)) == pytest.approx(place, abs=0.02)
    assert to_lab(np.array([255, 255, 255])) == pytest.approx((100, 0, 0), abs=1e-3)


def test_a_picture_in_127_colours_looks_no_worse_than_by_a_known_way() -> None:
    """Pillow's palettes, each refined and dithered by it, differ more from a picture with smooth slopes."""
    rows, columns = np.mgrid[:200, :250] / 250
    shades = [
        80 + 60 * np.sin(9 * rows + 4 * columns),
        110 + 70 * rows * columns + 30 * np.sin(31 * columns),
        60 + 90 * columns,
    ]
    cells = (
        (np.stack(shades) + np.random.default_rng(5).normal(0, 4, (3, 200, 250)))
        .clip(0, 255)
        .astype(np.uint8)
    )
    picture = cells.transpose(1, 2, 0)
    palette = median_cut(counted(cells), 127)
    ours = palette.table()[Quantized(raster(cells), palette).cells(Pane(0, 0, 200, 250)).cells[0]]
    theirs = []
    for method in (Image.Quantize.MEDIANCUT, Image.Quantize.MAXCOVERAGE, Image.Quantize.FASTOCTREE):
        best = Image.fromarray(picture).quantize(127, method, kmeans=3)
        made = Image.fromarray(picture).quantize(palette=best, dither=Image.Dither.FLOYDSTEINBERG)
        theirs.append(difference(picture, np.asarray(made.convert("RGB"))).mean())
    assert difference(picture, ours).mean() < min(theirs)
