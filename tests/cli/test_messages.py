"""What is told leads on: units that are asked for, codes that are near, sizes that can be, voids that are none."""

from __future__ import annotations

import numpy as np
import pytest
import tifffile
import xarray
from PIL import Image

from program import Program
from rasters import frame, raster, save


@pytest.fixture
def plain(zembrel: Program) -> Program:
    heights = np.add.outer(np.arange(80.0), np.arange(90.0)).astype(np.float32)
    save(zembrel.folder / "r.tif", raster(heights, where=frame(90, 80), unit="m"))
    return zembrel


@pytest.mark.parametrize(("words", "part", "remedy"), [
    (("clip", "r.tif", "--within", "circle:-24.02,46.01,3@EPSG:4326"), "no unit", "3km"),
    (("clip", "r.tif", "--within", "square:-24.02,46.01,3@EPSG:4326"), "no unit", "3deg"),
    (("contour", "r.tif", "--interval", "20m"), "--interval 20m", "--interval 20"),
    (("contour", "r.tif", "--index", "many"), "--index many", "--index 4"),
    (("reproject", "r.tif", "--crs", "EPSG:22633333"), "not a CRS", "crs find"),
    (("reproject", "r.tif", "--crs", "EPSG:326226"), "not a CRS", "EPSG:32626"),
    (("resample", "r.tif", "--cell", "0.01mm"), "would take", "larger cells"),
])  # fmt: skip
def test_the_remedy_is_one_that_can_be_followed(
    plain: Program, words: tuple[str, ...], part: str, remedy: str
) -> None:
    code = {"clip": 2, "contour": 2, "reproject": 3, "resample": 4}[words[0]]
    told = plain.refuses(code, *words, "--out", "o.tif" if words[0] != "contour" else "o.gpkg")
    assert part in told[0] and remedy in told[2] and "GB" not in told[2] and "TB" not in told[2]


def test_transparency_of_a_palette_is_told(zembrel: Program) -> None:
    picture = Image.fromarray(np.random.default_rng(1).integers(0, 4, (30, 40), dtype=np.uint8), "P")
    picture.putpalette([255, 0, 0, 0, 255, 0, 0, 0, 255, 9, 9, 9])
    picture.save(zembrel.folder / "p.png", transparency=0)
    picture.save(zembrel.folder / "q.png")
    assert "none declared" not in zembrel("describe", "p.png").out
    assert "none declared" in zembrel("describe", "q.png").out


def test_heights_that_mean_nothing_are_pointed_out(plain: Program) -> None:
    heights = tifffile.imread(plain.folder / "r.tif").copy()
    assert "--from-nodata" not in plain("terrain", "r.tif", "--of", "slope", "--out", "a.tif").err
    heights[30:50, 40:60] = -9999
    save(plain.folder / "v.tif", raster(heights, where=frame(90, 80), unit="m"))
    assert "--from-nodata -9999" in plain("terrain", "v.tif", "--of", "slope", "--out", "b.tif").err
    told = plain("terrain", "v.tif", "--from-nodata", "-9999", "--of", "slope", "--out", "c.tif").err
    assert "taken for ground" not in told


def test_cells_onto_which_features_go_tell_their_nodata(plain: Program) -> None:
    codes = np.full((80, 90), 7, np.uint8)
    save(plain.folder / "c.tif", raster(codes, where=frame(90, 80), nodata=0))
    (plain.folder / "f.csv").write_text(
        'wkt,n\n"POLYGON((730100 5099300,730500 5099300,730500 5099700,730100 5099300))",5\n'
    )
    words = "rasterize", "f.csv", "--from-crs", "EPSG:32626", "--field", "n", "--onto", "c.tif"
    plain(*words, "--out", "x.nc")
    with xarray.open_dataset(plain.folder / "x.nc", mask_and_scale=False) as held:
        cells = next(v for v in held.data_vars.values() if "grid_mapping" in v.attrs)
        assert cells.attrs["_FillValue"] == 0 and set(np.unique(cells.values)) == {0, 5}


def test_the_formats_that_are_read_can_be_told_apart(zembrel: Program) -> None:
    (zembrel.folder / "a.abc").write_text("no raster at all")
    _, why, _ = zembrel.refuses(3, "describe", "a.abc")
    names = why.removeprefix("it reads ").split(", ")
    listed = zembrel("formats").out
    assert len(names) > 20 and all(f"\n{name} " in f"\n{listed}" for name in names)


@pytest.mark.parametrize("ending", ["pmtiles", "mbtiles", "zip"])
def test_a_damaged_pack_tells_nothing_of_its_history_and_breaks_nothing(plain: Program, ending: str) -> None:
    name = f"p.{ending}"
    plain("deliver", "pyramid", "r.tif", "--ramp", "terrain", "--zooms", "12", "--out", name)
    whole = (plain.folder / name).read_bytes()
    told = plain("describe", name, "--history").out
    assert "deliver pyramid" in told or ending == "zip"  # whose members are told of
    chance = np.random.default_rng(5)
    for n in range(24):
        data = bytearray(whole[: int(chance.integers(1, len(whole)))] if n % 2 else whole)
        for at in chance.integers(0, len(data), 40):
            data[at] = chance.integers(0, 256)
        (plain.folder / name).write_bytes(bytes(data))
        said = plain("describe", name, "--history", code=None)
        assert said.code in (0, 3), said.err
