"""compare: figures against plain arrays, limits as exit codes, and the way there and back of land cover."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from program import Program
from rasters import frame, raster, save


def test_figures_are_those_of_plain_arrays(zembrel: Program) -> None:
    chance = np.random.default_rng(4)
    one, apart = (
        chance.normal(0, 50, (80, 90)).astype(np.float32),
        chance.normal(0, 3, (80, 90)).astype(np.float32),
    )
    apart[:40] = 0
    a, b = chance.random((80, 90)) > 0.1, chance.random((80, 90)) > 0.1
    save(zembrel.folder / "a.tif", raster(one, valid=a, where=frame(90, 80)))
    save(zembrel.folder / "b.tif", raster(one - apart, valid=b, where=frame(90, 80)))
    found = zembrel("compare", "a.tif", "b.tif", "--tolerance", "2", "--figure", "d.png", "--json").json
    both = a & b
    values = (one.astype(float) - (one - apart).astype(float))[both]
    assert (
        found["cells"] == both.sum() and found["alone"] == (a ^ b).sum() and found["verdict"] == "different"
    )
    assert found["equal"] == (values == 0).sum() and found["share"] == pytest.approx(
        (np.abs(values) <= 2).mean()
    )
    assert found["rms"] == pytest.approx(np.sqrt((values**2).mean())) and found["mean"] == pytest.approx(
        values.mean()
    )
    assert found["max"] == np.abs(values).max() and found["low"] == values.min()
    assert Image.open(zembrel.folder / "d.png").size == (1280, 800)
    assert zembrel("compare", "a.tif", "b.tif", "--at-most", "rms=9", "--at-least", "share=0.4").err
    broken = zembrel(
        "compare", "a.tif", "b.tif", "--at-most", "max=1", "--at-least", "share=0.99", code=1
    ).err
    assert "more than 1" in broken and "less than 0.99" in broken
    assert zembrel.refuses(2, "compare", "a.tif", "b.tif", "--at-most", "rmse=1")[2] == "did you mean rms?"
    assert zembrel.refuses(2, "compare", "a.tif")


def test_parts_that_both_cover_are_compared_and_shifts_are_told(zembrel: Program) -> None:
    chance = np.random.default_rng(5)
    whole = np.kron(chance.integers(0, 200, (40, 40)), np.ones((6, 6), int)).astype(np.int16)
    save(zembrel.folder / "w.tif", raster(whole, where=frame(240, 240)))
    save(
        zembrel.folder / "p.tif",
        raster(whole[20:120, 30:230], where=frame(200, 100, left=730_300, top=5_099_800)),
    )
    found = zembrel("compare", "p.tif", "w.tif", "--json").json
    assert found["cells"] == found["equal"] == 20_000 and found["outside"] == 240 * 240 - 20_000
    assert found["verdict"] == "equal where both have cells"
    save(zembrel.folder / "s.tif", raster(np.roll(whole, (2, 3), (0, 1)), where=frame(240, 240)))
    shift = zembrel("compare", "w.tif", "s.tif", "--json").json["shift"]
    assert shift["columns"] == pytest.approx(3, abs=0.2) and shift["rows"] == pytest.approx(2, abs=0.2)
    save(zembrel.folder / "o.tif", raster(whole, where=frame(240, 240, cell=7.0)))
    assert zembrel.refuses(3, "compare", "w.tif", "o.tif")[2].startswith("bring one to the other")


def test_land_cover_to_polygons_and_back_is_identical(zembrel: Program, marrowick: Path) -> None:
    shutil.copy(marrowick / "landcover.tif", zembrel.folder)
    for words in ([], ["--diagonal"], ["--dissolve"]):
        zembrel("polygonize", "landcover.tif", *words, "--out", "back.gpkg", "--replace")
        zembrel(
            "rasterize",
            "back.gpkg",
            "--field",
            "value",
            "--onto",
            "landcover.tif",
            "--out",
            "back.tif",
            "--replace",
        )
        found = zembrel("compare", "landcover.tif", "back.tif", "--at-least", "share=1", "--json").json
        assert found["verdict"] == "identical" and found["cells"] == 832_000
