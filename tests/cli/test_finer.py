"""How fine and how bright: cells along the longer side, stretches of each band, overviews of each kind."""

from __future__ import annotations

import numpy as np
import pytest
import tifffile
from PIL import Image

from program import Program
from rasters import random_cells, raster, save

VERBS = {
    "resample": ("resample", "a.tif"),
    "reproject": ("reproject", "a.tif", "--crs", "EPSG:3857"),
    "clip": ("clip", "a.tif", "--within", "730100,5099700,730900,5100000"),
    "mosaic": ("mosaic", "a.tif"),
    "picture": ("resample", "a.tif", "--method", "nearest"),
    "rasterize": ("rasterize", "f.csv", "--from-crs", "EPSG:32626", "--value", "1"),
}


@pytest.mark.parametrize("verb", VERBS)
@pytest.mark.parametrize("count", [37, 200])
def test_so_many_cells_along_the_longer_side(zembrel: Program, verb: str, count: int) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(60, 100)))
    (zembrel.folder / "f.csv").write_text("x,y,name\n730000,5099400,a\n731000,5100000,b\n")
    out = "r.png" if verb == "picture" else "r.tif"
    zembrel(*VERBS[verb], "--longest", count, "--out", out)
    shape = np.asarray(Image.open(zembrel.folder / out)).shape
    assert max(shape[:2]) == count and min(shape[:2]) < count
    zembrel.refuses(2, *VERBS[verb], "--longest", count, "--cell", "10", "--out", "x.tif")


def test_each_band_is_stretched_by_its_own_ends(zembrel: Program) -> None:
    cells = np.stack([random_cells(50, 50, kind="uint16") // 10 + 1000 * n for n in range(3)]).astype(
        np.uint16
    )
    save(zembrel.folder / "a.tif", raster(cells))
    zembrel("convert", "a.tif", "--stretch", "each:0%,100%", "--out", "e.tif")
    found = tifffile.imread(zembrel.folder / "e.tif")
    for n, band in enumerate(cells):
        due = (band.astype(float) - band.min()) / (int(band.max()) - int(band.min())) * 255
        assert np.abs(found[..., n] - due).max() <= 0.51
    assert found.dtype == np.uint8


def test_ends_that_can_only_mean_per_cent_are_asked_about(zembrel: Program) -> None:
    save(zembrel.folder / "a.tif", raster(random_cells(50, 50, kind="uint16")))
    what, why, remedy = zembrel.refuses(2, "convert", "a.tif", "--stretch", "2,98", "--out", "b.png")
    assert "per cent" in what and "values run from" in why and "2%,98%" in remedy and "2.0,98.0" in remedy
    zembrel("convert", "a.tif", "--stretch", "2.0,98.0", "--out", "b.png")
    save(zembrel.folder / "small.tif", raster(random_cells(50, 50) % 100))
    zembrel("convert", "small.tif", "--stretch", "2,98", "--out", "c.png")


@pytest.mark.parametrize("method", ["min", "max"])
def test_overviews_of_extremes_and_band_by_band(zembrel: Program, method: str) -> None:
    cells, valid = random_cells(2, 301, 402, kind="int16"), random_cells(301, 402, seed=4) > 90
    save(zembrel.folder / "a.tif", raster(cells, valid, nodata=-32768))
    zembrel("label", "a.tif", "--names", "height,qa", "--out", "n.tif")
    zembrel(
        "convert", "n.tif", "--set", "tile=64", "--set", f"overviews={method},qa:nearest", "--out", "o.tif"
    )
    with tifffile.TiffFile(zembrel.folder / "o.tif") as file:
        first = next(page.asarray() for page in file.pages if page.shape[:2] == (151, 201))
    held = np.pad(
        np.where(valid, cells[0], 32767 if method == "min" else -32768), ((0, 1), (0, 0)), mode="edge"
    )
    four = held.reshape(151, 2, 201, 2)
    due = four.min(axis=(1, 3)) if method == "min" else four.max(axis=(1, 3))
    some = np.pad(valid, ((0, 1), (0, 0)), mode="edge").reshape(151, 2, 201, 2).any(axis=(1, 3))
    np.testing.assert_array_equal(first[..., 0][some], due[some])
    corner = valid[::2, ::2]
    np.testing.assert_array_equal(first[..., 1][corner], cells[1, ::2, ::2][corner])
    assert "pick" not in zembrel("convert", "n.tif", "--set", "overviews=best", "--out", "x.tif", code=2).err
