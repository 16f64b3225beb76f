"""What tiles hold of rasters of all kinds, and what of a user's folder is never replaced."""

from __future__ import annotations

import io
import json
import sqlite3
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from program import Program
from rasters import ArrayRaster, raster, save
from zembrel.deliver.tilepicture import TilePicture
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import ALPHA, Band

SPAN = 2 * 20037508.3427892 / 2**15
TILE = (14200, 11660)  # of zoom 15; two by two of them are covered
WHERE = Frame(
    by_code(3857),
    Affine(-20037508.3427892 + TILE[0] * SPAN, 20037508.3427892 - TILE[1] * SPAN, SPAN / 256, -SPAN / 256),
    512, 512,
)  # fmt: skip
ROWS, COLUMNS = np.mgrid[:512, :512]


def first(zembrel: Program, *words: str, out: str = "o.zip") -> Any:
    """The first of the four tiles, as red, green, blue and opacity."""
    zembrel("deliver", "pyramid", *words, "--zooms", "15", "--out", out, "--replace")
    with zipfile.ZipFile(zembrel.folder / out) as held:
        name = next(name for name in held.namelist() if name.startswith(f"15/{TILE[0]}/{TILE[1]}."))
        return np.asarray(Image.open(io.BytesIO(held.read(name))).convert("RGBA"))


def bands(count: int, *, alpha: bool = False) -> ArrayRaster:
    """Bytes that tell band, row and column."""
    cells = np.stack([(n * 60 + ROWS // 16) % 256 for n in range(count)]).astype(np.uint8)
    made = [Band(f"b{n + 1}", "uint8") for n in range(count)]
    if alpha:
        cells[-1] = np.where(COLUMNS < 100, 0, 255)
        made[-1] = Band("alpha", "uint8", colour=ALPHA)
    return ArrayRaster(WHERE, tuple(made), cells)


def test_a_mask_blanks_what_lies_outside_of_the_outline(zembrel: Program) -> None:
    save(zembrel.folder / "a.tif", raster(np.full((512, 512), 9, np.uint8), where=WHERE))
    x0, y0, cell = WHERE.affine.x0, WHERE.affine.y0, SPAN / 256
    corners = [
        [x0 + 40 * cell, y0 - 40 * cell],
        [x0 + 200 * cell, y0 - 40 * cell],
        [x0 + 40 * cell, y0 - 200 * cell],
    ]
    shape = {"type": "Polygon", "coordinates": [[*corners, corners[0]]]}
    crs = {"type": "name", "properties": {"name": "EPSG:3857"}}
    features = [{"type": "Feature", "properties": {}, "geometry": shape}]
    (zembrel.folder / "t.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "crs": crs, "features": features})
    )
    seen = first(zembrel, "a.tif", "--within", "t.geojson", "--mask")[..., 3] > 0
    rows, columns = ROWS[:256, :256] + 0.5, COLUMNS[:256, :256] + 0.5
    assert (seen == ((rows > 40) & (columns > 40) & (rows + columns < 240))).mean() > 0.999


def test_bands_are_colours_only_where_that_is_meant(zembrel: Program) -> None:
    for count in (2, 3, 5):
        save(zembrel.folder / f"b{count}.tif", bands(count))
    save(zembrel.folder / "ga.tif", bands(2, alpha=True))
    plain = bands(5).values
    assert (
        first(zembrel, "b3.tif", "--tile-format", "png")[..., :3] == np.moveaxis(plain[:3, :256, :256], 0, -1)
    ).all()
    assert (
        first(zembrel, "b5.tif", "--bands", "5,1,2", "--tile-format", "png")[..., 0] == plain[4, :256, :256]
    ).all()
    grey = first(zembrel, "ga.tif")
    assert (grey[:, 100:, 0] == plain[0, :256, 100:256]).all() and (grey[:, :100, 3] == 0).all()
    for name in ("b2.tif", "b5.tif"):
        assert "--bands" in zembrel.refuses(3, "deliver", "pyramid", name, "--out", "x.zip")[2]
    assert (
        "--bands"
        in zembrel.refuses(3, "deliver", "pyramid", "b3.tif", "--ramp", "relief", "--out", "x.zip")[2]
    )


def test_a_fourth_band_of_a_photo_is_no_opacity(zembrel: Program) -> None:
    made = bands(4)
    named = tuple(Band(name, "uint8", colour=colour) for name, colour in
                  (("red", "red"), ("green", "green"), ("blue", "blue"), ("nir", "")))  # fmt: skip
    save(
        zembrel.folder / "nir.tif",
        ArrayRaster(WHERE, named, made.values * (np.arange(4) < 3)[:, None, None].astype(np.uint8)),
    )
    assert (first(zembrel, "nir.tif", "--tile-format", "png")[..., 3] == 255).all()
    said = zembrel("deliver", "pyramid", "nir.tif", "--zooms", "15", "--out", "n.zip").err
    assert "bands left out: nir" in said


def test_values_of_all_inputs_and_of_the_area_alone_span_the_ramp(zembrel: Program) -> None:
    low = raster(
        (ROWS[:256] / 10).astype(np.float32), where=WHERE.crop(WHERE.pane_of(*WHERE.bounds)), unit="m"
    )
    half = Frame(WHERE.crs, WHERE.affine, 512, 256)
    other = Frame(
        WHERE.crs, Affine(WHERE.affine.x0, WHERE.affine.y0 - SPAN, SPAN / 256, -SPAN / 256), 512, 256
    )
    save(zembrel.folder / "low.tif", ArrayRaster(half, low.bands, low.values))
    save(zembrel.folder / "high.tif", ArrayRaster(other, low.bands, low.values + 900))
    words = ("deliver", "pyramid", "--zooms", "15", "--ramp", "viridis", "--json", "--out")
    chose = zembrel(*words, "o.zip", "low.tif", "high.tif").json["chose"]
    ends = next(item for item in chose if item["fact"] == "value_range")
    assert (ends["low"], ends["high"]) == pytest.approx((0, 925.5), abs=0.1)
    x0, y0, cell = WHERE.affine.x0, WHERE.affine.y0, SPAN / 256
    area = f"{x0 + 9 * cell},{y0 - 99 * cell},{x0 + 90 * cell},{y0 - 9 * cell}@EPSG:3857"
    chose = zembrel(*words, "p.zip", "low.tif", "--within", area).json["chose"]
    assert next(item for item in chose if item["fact"] == "value_range")["high"] <= 25.5


def test_photos_of_more_bits_are_stretched_or_refused(zembrel: Program) -> None:
    cells = np.stack([ROWS * 100 + n for n in range(3)]).astype(np.uint16)
    save(
        zembrel.folder / "deep.tif",
        ArrayRaster(WHERE, tuple(Band(f"b{n}", "uint16") for n in range(3)), cells),
    )
    assert "--stretch" in zembrel.refuses(4, "deliver", "pyramid", "deep.tif", "--out", "x.zip")[2]
    seen = first(zembrel, "deep.tif", "--stretch", "0,51100", "--tile-format", "png")[..., 0].astype(int)
    assert np.abs(seen - ROWS[:256, :256] * 255 / 511).max() <= 1
    words = ("deliver", "pyramid", "deep.tif", "--stretch", "0,9", "--ramp", "relief", "--out", "x.zip")
    assert "exclude" in zembrel.refuses(2, *words)[0]


def test_a_palette_of_which_every_code_is_used_still_shows_voids() -> None:
    legend = Legend.of(LegendEntry(n, "", (n, 255 - n, 7)) for n in range(256))
    codes, valid = np.arange(65536).reshape(1, 256, 256).astype(np.uint8), np.ones((256, 256), bool)
    valid[:3] = False
    data, kind = TilePicture(legend=legend).encode(codes, valid) or (b"", "")
    seen = np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))
    assert kind == "png" and (seen[..., 3] == np.where(valid, 255, 0)).all()
    assert (seen[3:, :, 0] == codes[0, 3:]).all()


def formats_in(path: Path) -> set[str]:
    """What the pictures of a zip say that they are."""
    with zipfile.ZipFile(path) as held:
        names = [name for name in held.namelist() if name[0].isdigit()]
        return {str(Image.open(io.BytesIO(held.read(name))).format) for name in names}


def test_a_pack_has_one_format_and_says_what_others_would_take(zembrel: Program) -> None:
    photo = np.random.default_rng(4).integers(0, 255, (3, 512, 512)).astype(np.uint8)
    hole = np.ones((512, 512), bool)
    hole[:300, :300] = False
    save(zembrel.folder / "whole.tif", raster(photo, where=WHERE))
    save(zembrel.folder / "holed.tif", raster(photo, valid=hole, where=WHERE))
    for name, words, format_, ending in (
        ("whole.tif", ("--zooms", "15"), "JPEG", "jpg"), ("holed.tif", ("--zooms", "15"), "PNG", "png"),
        ("whole.tif", ("--zooms", "12-15"), "PNG", "png"), ("holed.tif", ("--flatten", "navy"), "JPEG", "jpg"),
    ):  # fmt: skip
        said = zembrel("deliver", "pyramid", name, *words, "--out", "a.zip", "--replace", "--json").json
        (told,) = (fact for fact in said["chose"] if fact["fact"] == "tile_format")
        assert told["format"] == {"JPEG": "jpeg", "PNG": "png"}[format_] and formats_in(
            zembrel.folder / "a.zip"
        ) == {format_}
        with zipfile.ZipFile(zembrel.folder / "a.zip") as held:
            index = json.loads(held.read("tiles.json"))
            endings = {entry.rsplit(".", 1)[-1] for entry in held.namelist() if entry[0].isdigit()}
        assert endings == {ending} and index["tiles"][0].endswith(f".{ending}")
        other = "jpeg" if format_ == "PNG" else "png"
        size = {}
        for form in (told["format"], other):
            zembrel("deliver", "pyramid", name, *words, "--tile-format", form, "--out", "b.zip", "--replace")
            size[form] = (zembrel.folder / "b.zip").stat().st_size
        assert 0.6 < told["bytes"] / size[told["format"]] < 1.6
        assert 0.6 < dict(map(tuple, told["others"]))[other] / size[other] < 1.6


def test_void_cells_of_jpeg_are_white_and_that_is_told_or_have_a_colour(zembrel: Program) -> None:
    hole = np.ones((512, 512), bool)
    hole[:256, :128] = False
    save(zembrel.folder / "h.tif", raster(np.full((3, 512, 512), 90, np.uint8), valid=hole, where=WHERE))
    white = first(zembrel, "h.tif", "--tile-format", "jpeg")
    assert (white[:, :120, :3] > 250).all() and (np.abs(white[:, 136:, :3].astype(int) - 90) < 5).all()
    words = ("deliver", "pyramid", "h.tif", "--tile-format", "jpeg", "--zooms", "15")
    assert "void cells white" in zembrel(*words, "--out", "t.zip").err
    for form in ("jpeg", "png", "webp"):
        navy = first(zembrel, "h.tif", "--tile-format", form, "--flatten", "navy")
        assert (np.abs(navy[:, :120].astype(int) - (0, 0, 128, 255)) < 6).all()
    zembrel.refuses(2, *words, "--flatten", "no colour", "--out", "x.zip")


def test_tiles_of_two_formats_are_asked_for_and_told(zembrel: Program, marrowick: Path) -> None:
    words = "deliver", "pyramid", marrowick / "ortho" / "m1.tif", "--tile-format", "mixed"
    assert "two formats" in zembrel(*words, "--out", "o.gpkg").err
    for name in ("o.zip", "o/", "o.pmtiles", "o.mbtiles"):
        assert "mixed" in zembrel.refuses(2, *words, "--out", name)[0]


def test_the_ceiling_names_zooms_that_fit(zembrel: Program, marrowick: Path) -> None:
    words = (
        "deliver",
        "pyramid",
        marrowick / "landcover.tif",
        "--out",
        "x.mbtiles",
        "--zooms",
        "10-14",
        "--ceiling",
    )
    remedy = zembrel.refuses(4, *words, "5MB")[2]
    fitting = remedy.split("add --zooms ")[1].split(",")[0]
    zembrel(
        "deliver",
        "pyramid",
        marrowick / "landcover.tif",
        "--out",
        "x.mbtiles",
        "--zooms",
        fitting,
        "--ceiling",
        "5MB",
    )
    assert (zembrel.folder / "x.mbtiles").stat().st_size < 5_000_000
    file = sqlite3.connect(zembrel.folder / "x.mbtiles")
    assert file.execute("SELECT max(zoom_level) FROM tiles").fetchone()[0] == int(fitting.split("-")[1])


def test_a_folder_in_which_anything_else_lies_is_never_replaced(zembrel: Program) -> None:
    save(zembrel.folder / "a.tif", raster(np.full((512, 512), 9, np.uint8), where=WHERE))
    words = ("deliver", "pyramid", "a.tif", "--zooms", "14-15", "--replace", "--out", "site/")
    zembrel(*words)
    zembrel(*words)
    (zembrel.folder / "site" / "index.html").write_text("mine")
    assert "no pack of tiles" in zembrel.refuses(4, *words)[0]
    assert (zembrel.folder / "site" / "index.html").read_text() == "mine"
    (zembrel.folder / "empty").mkdir()
    assert "folder" in zembrel.refuses(4, "deliver", "pyramid", "a.tif", "--out", "empty/")[0]
