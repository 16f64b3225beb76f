"""Lettering of a scanned map on the finest tiles."""

from __future__ import annotations

import io
import math
import zipfile
from pathlib import Path
from typing import Any

import matplotlib
import numpy as np
import pytest
from PIL import Image, ImageDraw, ImageFont
from scipy import ndimage

import depth
from program import Program
from rasters import raster, save
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame

SIDE, PAPER, INK, LAT = 300, 236, 24, 46.0


def lettering() -> Any:
    """Black text on paper, its edges as soft as those of a scan."""
    font = ImageFont.truetype(Path(matplotlib.get_data_path()) / "fonts/ttf/DejaVuSans.ttf", 4 * 13)
    sheet = Image.new("L", (4 * SIDE, 4 * SIDE), PAPER)
    for line, row in enumerate(range(10, SIDE - 20, 22)):
        at = (40 + 5 * line, 4 * row)
        ImageDraw.Draw(sheet).text(at, "Marrowick Head 47  Skerry Lane", fill=INK, font=font)
    return np.asarray(sheet.reduce(4))


def ranges(picture: Any, cells: float) -> Any:
    """Darkest against lightest around each place, within a circle's width of two and a quarter source cells."""
    fine = ndimage.zoom(picture.astype(float), 4 * cells, order=1)
    return np.sort((ndimage.maximum_filter(fine, 9) - ndimage.minimum_filter(fine, 9)).ravel())


def finest(path: Path) -> tuple[int, Any]:
    """The finest zoom of a zip of tiles, and them as one picture on paper."""
    with zipfile.ZipFile(path) as held:
        tiles = {}
        for name in held.namelist():
            if name[0].isdigit():
                zoom, column, row = map(int, name.partition(".")[0].split("/"))
                paper = Image.new("RGBA", (256, 256), (PAPER, PAPER, PAPER, 255))
                paper.alpha_composite(Image.open(io.BytesIO(held.read(name))).convert("RGBA"))
                tiles[zoom, column, row] = np.asarray(paper)[..., 0]
    top = max(zoom for zoom, _, _ in tiles)
    columns = [column for zoom, column, _ in tiles if zoom == top]
    rows = [row for zoom, _, row in tiles if zoom == top]
    whole = np.full((256 * (max(rows) - min(rows) + 1), 256 * (max(columns) - min(columns) + 1)), PAPER)
    for (zoom, column, row), cells in tiles.items():
        if zoom == top:
            y, x = 256 * (row - min(rows)), 256 * (column - min(columns))
            whole[y : y + 256, x : x + 256] = cells
    return top, whole


@pytest.mark.parametrize("form", depth.some(["png", "jpeg", "webp"], ["jpeg"]))
@pytest.mark.parametrize(
    "cell", depth.some([0.5, 0.76], [0.76])
)  # of 0.76 m the tiles are a tenth coarser: no zoom fits worse
def test_lettering_keeps_nine_tenths_of_its_contrast(zembrel: Program, cell: float, form: str) -> None:
    sheet = lettering()
    frame = Frame(by_code(32626), Affine(730000, 5098000, cell, -cell), SIDE, SIDE)
    save(zembrel.folder / "map.tif", raster(np.stack([sheet] * 3), where=frame))
    zembrel("deliver", "pyramid", "map.tif", "--tile-format", form, "--out", "o.zip")
    zoom, tiles = finest(zembrel.folder / "o.zip")
    ratio = 2 * math.pi * 6378137 / 2**zoom / 256 * math.cos(math.radians(LAT)) / cell
    assert 0.5 < ratio < 1.11
    source = ranges(sheet, 1.0)
    edges = source[source > 60]
    assert ranges(tiles, ratio)[-edges.size :].mean() > 0.9 * edges.mean()
