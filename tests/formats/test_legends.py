"""Classes come back from every format with their codes, names and colours, or the receipt says what is lost."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import netCDF4
import numpy as np
import pytest
import tifffile
import zarr
from PIL import Image

from program import Program
from rasters import frame, raster, save
from zembrel.formats import open_raster
from zembrel.formats.catalogue import FORMATS
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.views.bands import Relabelled

NAMED = [("open water", (0, 0, 200)), ("heath", (100, 80, 10)), ("wood", (0, 90, 0)), ("bare rock", (0, 0, 0)),
         ("", (9, 9, 9))]  # fmt: skip
CODES = {"uint8": [10, 20, 30, 40, 90], "int16": [-5, 7, 20, 300, 4000]}


def legend_of(kind: str) -> Legend:
    return Legend.of(LegendEntry(code, *told) for code, told in zip(CODES[kind], NAMED, strict=True))


def cover(folder: Path, kind: str) -> np.ndarray:
    cells = np.array(CODES[kind] * 20, kind).reshape(10, 10)
    made = raster(cells, where=frame(10, 10, cell=10.0))
    save(
        folder / "cover.tif",
        Relabelled(made, (replace(made.bands[0], name="cover", legend=legend_of(kind)),)),
    )
    return cells


HOLDING = {form.endings[0]: form for form in FORMATS.values() if form.types and "kap" not in form.endings[0]}


@pytest.mark.parametrize("kind", CODES)
@pytest.mark.parametrize("ending", [e for e in HOLDING if e not in (".hgt", ".dt0", ".quilt.toml", ".gtx")])
def test_classes_come_back_or_their_loss_is_told(zembrel: Program, ending: str, kind: str) -> None:
    cover(zembrel.folder, kind)
    said = zembrel("convert", "cover.tif", "--out", f"o{ending}", code=None)
    if said.code:
        assert said.code in (2, 4)
        return
    told, held = said.err, open_raster(zembrel.folder / f"o{ending}").bands[0].legend
    if "legend" not in told and "palette" not in told and "names" not in told:
        assert held == legend_of(kind)
    elif "names" in told:
        assert held is not None
        assert {(e.code, e.colour) for e in held.entries} <= {
            (e.code, e.colour) for e in legend_of(kind).entries
        }


def test_other_programs_find_the_classes(zembrel: Program) -> None:
    cells = cover(zembrel.folder, "uint8")
    for name in ("o.nc", "o.zarr", "o.png", "o.tif"):
        zembrel("convert", "cover.tif", "--out", name)
    with netCDF4.Dataset(zembrel.folder / "o.nc") as file:
        told = file["cover"]
        assert told.flag_values.tolist() == CODES["uint8"]
        assert told.flag_meanings.split()[:4] == ["open_water", "heath", "wood", "bare_rock"]
        assert told.flag_colors.split() == ["#0000c8", "#64500a", "#005a00", "#000000", "#090909"]
    array = zarr.open_group(zembrel.folder / "o.zarr", mode="r")["cover"]
    assert list(array.attrs["flag_values"]) == CODES["uint8"]
    shown = np.array(
        [dict(zip(CODES["uint8"], (c for _, c in NAMED), strict=True))[code] for code in cells.ravel()]
    )
    picture = np.asarray(Image.open(zembrel.folder / "o.png").convert("RGB")).reshape(-1, 3)
    assert (picture == shown).all()
    page = tifffile.TiffFile(zembrel.folder / "o.tif").pages[0]
    assert (shown == page.colormap[:, cells.ravel()].T // 257).all()


def test_colours_of_flags_that_others_wrote_are_read(tmp_path: Path) -> None:
    with netCDF4.Dataset(tmp_path / "l.nc", "w") as file:
        for name, values in (("y", [50.0, 40.0, 30.0]), ("x", [10.0, 20.0])):
            file.createDimension(name, len(values))
            file.createVariable(name, "f8", (name,))[:] = values
        told = file.createVariable("lc", "u1", ("y", "x"))
        told[:] = [[3, 7], [3, 7], [3, 7]]
        told.flag_values = np.array([3, 7], "u1")
        told.flag_meanings, told.flag_colors = "open_water bog", "#0000FF #7f3f00"
    legend = open_raster(tmp_path / "l.nc").bands[0].legend
    assert legend == Legend.of(
        [LegendEntry(3, "open water", (0, 0, 255)), LegendEntry(7, "bog", (127, 63, 0))]
    )


@pytest.mark.parametrize("field", ["value", "name"])
def test_polygons_of_classes_become_the_same_classes(zembrel: Program, field: str) -> None:
    cells = cover(zembrel.folder, "uint8")
    zembrel("convert", "cover.tif", "--from-nodata", "90", "--out", "named.tif")  # the one without a name
    zembrel("polygonize", "named.tif", "--out", "p.gpkg")
    zembrel("rasterize", "p.gpkg", "--field", field, "--onto", "cover.tif", "--fill", "90", "--out", "r.tif")
    assert (tifffile.imread(zembrel.folder / "r.tif") == cells).all()
    held = open_raster(zembrel.folder / "r.tif").bands[0].legend
    assert held is not None and held.entries == legend_of("uint8").entries[:4]


def test_words_without_codes_are_numbered(zembrel: Program) -> None:
    (zembrel.folder / "w.csv").write_text("x,y,kind\n730005,5099995,wood\n730015,5099995,bog\n")
    zembrel("frame", "--within", "730000,5099980,730020,5100000", "--cell", "10", "--crs", "EPSG:32626",
            "--out", "f.frame.toml")  # fmt: skip
    words = "--from-crs", "EPSG:32626", "--onto", "f.frame.toml"
    zembrel("rasterize", "w.csv", "--field", "kind", *words, "--out", "k.tif")
    legend = open_raster(zembrel.folder / "k.tif").bands[0].legend
    assert legend is not None and [(e.code, e.name) for e in legend.entries] == [(1, "bog"), (2, "wood")]


@pytest.mark.parametrize("names", ["red,green,blue", "RED,Green,Blue"])
def test_bands_named_after_colours_are_colours(zembrel: Program, names: str) -> None:
    chance = np.random.default_rng(2)
    save(
        zembrel.folder / "m.tif", raster(chance.integers(0, 900, (4, 40, 50)), where=frame(50, 40, cell=10.0))
    )
    zembrel("label", "m.tif", "--names", ",".join([*reversed(names.split(",")), "nir"]))
    zembrel(
        "convert", "m.tif", "--bands", "3,2,1", "--stretch", "2%,98%", "--type", "uint8", "--out", "c.tif"
    )
    page = tifffile.TiffFile(zembrel.folder / "c.tif").pages[0]
    assert page.photometric == tifffile.PHOTOMETRIC.RGB and not page.extrasamples
    drawn = zembrel("draw", "m.tif", "--bands", "red,green,blue", "--out", "p.png").err
    assert "colours from" in drawn and "left out" not in drawn
    false = zembrel("draw", "m.tif", "--bands", "nir,red,green", "--out", "n.png").err.lower()
    assert "bands nir, red, green as red, green and blue" in false
    assert "bands left out: green, red, nir" in zembrel("draw", "m.tif", "--out", "b.png").err.lower()
