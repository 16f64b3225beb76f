"""compare: figures against plain arrays, shifts against the scene itself, limits as exit codes, and pages."""

from __future__ import annotations

import io
import json
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image
from scipy import ndimage

import depth
from browser import Browser
from program import Program
from rasters import ArrayRaster, frame, random_cells, raster, save
from zembrel.demo.scenes import Photo
from zembrel.facts import fact
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.opened.calls import call
from zembrel.raster.difference import Disagreeing
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.results.receipt import Receipt


def test_figures_are_those_of_plain_arrays(zembrel: Program) -> None:
    chance = np.random.default_rng(4)
    one = chance.normal(0, 50, (80, 90)).astype(np.float32)
    apart = chance.normal(0, 3, (80, 90)).astype(np.float32)
    apart[:40] = 0
    a, b = chance.random((80, 90)) > 0.1, chance.random((80, 90)) > 0.1
    save(zembrel.folder / "a.tif", raster(one, valid=a, where=frame(90, 80), unit="m"))
    save(zembrel.folder / "b.tif", raster(one - apart, valid=b, where=frame(90, 80), unit="m"))
    products = ("--figure", "d.png", "--difference", "d.tif", "--page", "d.html")
    words = ("compare", "a.tif", "b.tif", "--tolerance", "2", "--tolerance", "0.5")
    found = zembrel(*words, *products, "--json").json
    both = a & b
    values = (one.astype(float) - (one - apart).astype(float))[both]
    sizes = np.abs(values)
    assert (
        found["cells"] == both.sum() and found["alone"] == (a ^ b).sum() and found["verdict"] == "different"
    )
    assert found["equal"] == (values == 0).sum() and found["share"] == pytest.approx((sizes <= 2).mean())
    assert [row["share"] for row in found["shares"]] == pytest.approx(
        [(sizes <= 2).mean(), (sizes <= 0.5).mean()]
    )
    assert found["rms"] == pytest.approx(np.sqrt((values**2).mean())) and found["bias"] == pytest.approx(
        values.mean()
    )
    assert found["max"] == sizes.max() and found["low"] == values.min() and found["classes"] is None
    for share, size in found["percentiles"].items():
        assert (sizes <= size * 1.01).mean() >= float(share) / 100 >= (sizes < size * 0.98).mean()
    row, column = np.unravel_index(np.where(both, np.abs(one - (one - apart)), 0).argmax(), both.shape)
    assert (found["worst"]["x"], found["worst"]["y"]) == (730_005 + 10 * column, 5_099_995 - 10 * row)
    assert Image.open(zembrel.folder / "d.png").size == (1280, 800)
    written = tifffile.imread(zembrel.folder / "d.tif", key=0)
    np.testing.assert_allclose(written[both], values, rtol=1e-6)
    assert np.isnan(written[~both]).all()
    assert zembrel("compare", "a.tif", "b.tif", "--at-most", "rms=9", "--at-least", "share=0.4").err
    limits = ("--at-most", "max=1", "--at-most", "bias=-1", "--at-least", "share=0.99")
    broken = zembrel("compare", "a.tif", "b.tif", *limits, code=1).err
    assert "max is" in broken and "bias is" in broken and "less than 0.99" in broken
    assert zembrel.refuses(2, "compare", "a.tif", "b.tif", "--at-most", "rmse=1")[2] == "did you mean rms?"
    assert zembrel.refuses(2, "compare", "a.tif") and zembrel.refuses(
        2, "compare", "a.tif", "b.tif", "--page", "p.png"
    )
    assert zembrel.refuses(4, "compare", "a.tif", "b.tif", "--difference", "d.tif")


def test_infinite_and_enormous_values_are_told_without_a_warning(zembrel: Program) -> None:
    cells = np.arange(2_400.0).reshape(40, 60) % 7
    save(zembrel.folder / "a.tif", raster(cells, where=frame(60, 40)))
    odd = cells * 1e200
    odd[3, 4], odd[5, 6] = np.inf, -np.inf
    save(zembrel.folder / "b.tif", raster(odd, where=frame(60, 40)))
    said = zembrel(
        "compare", "a.tif", "b.tif", "--figure", "f.png", "--page", "p.html", "--difference", "d.tif"
    )
    assert "inf" in said.err and "Warning" not in said.err
    for verb in (("check", "b.tif", "--rules", "cells"), ("draw", "b.tif", "--out", "b.png"),
                 ("derive", "b.tif", "--formula", "value / 2", "--out", "v.tif")):  # fmt: skip
        assert "Warning" not in zembrel(*verb).err
    for words in (("--figure", "x.tif"), ("--page", "x.png"), ("--tolerance", "nan"), ("--tolerance", "-1")):
        assert zembrel.refuses(2, "compare", "a.tif", "b.tif", *words)


def test_parts_that_both_cover_are_compared(zembrel: Program) -> None:
    whole = np.kron(np.random.default_rng(5).integers(0, 200, (40, 40)), np.ones((6, 6), int)).astype(
        np.int16
    )
    save(zembrel.folder / "w.tif", raster(whole, where=frame(240, 240)))
    part = raster(whole[20:120, 30:230], where=frame(200, 100, left=730_300, top=5_099_800))
    save(zembrel.folder / "p.tif", part)
    found = zembrel("compare", "p.tif", "w.tif", "--json").json
    assert found["cells"] == found["equal"] == 20_000 and found["outside"] == 240 * 240 - 20_000
    assert found["verdict"] == "equal where both have cells"
    save(zembrel.folder / "s.tif", raster(np.roll(whole, (2, 3), (0, 1)), where=frame(240, 240)))
    shift = zembrel("compare", "w.tif", "s.tif", "--json").json["shift"]
    assert (shift["columns"], shift["rows"]) == pytest.approx((3, 2), abs=0.01) and shift["confidence"] > 0.9
    assert "shift is 3.6" in zembrel("compare", "w.tif", "s.tif", "--at-most", "shift=1", code=1).err


def test_the_second_comes_onto_the_cells_of_the_first_whatever_its_frame(zembrel: Program) -> None:
    hills = ndimage.gaussian_filter(np.random.default_rng(7).normal(200, 900, (300, 300)), 8).astype(
        np.float32
    )
    save(zembrel.folder / "w.tif", raster(hills, where=frame(300, 300), unit="m"))
    zembrel("reproject", "w.tif", "--crs", "EPSG:4326", "--cell", "0.1arcsec", "--out", "g.tif")
    said = zembrel("compare", "w.tif", "g.tif", "--at-most", "rms=0.05", "--at-most", "shift=0.01")
    assert "g.tif brought onto the cells of w.tif" in said.err and "method mean" in said.err
    save(zembrel.folder / "far.tif", raster(hills, where=frame(300, 300, left=200_000.0)))
    assert "do not meet" in zembrel.refuses(3, "compare", "w.tif", "far.tif")[0]


def shot(columns: float, rows: float, side: int = 1000, cell: float = 2.0) -> ArrayRaster:
    """The demo's scene, as a camera sees it that stands so many cells further."""
    affine = Affine(730_400.0 + columns * cell, 5_100_300.0 - rows * cell, cell, -cell)
    photo = Photo(Frame(by_code(32626), affine, side, side))
    held = photo.cells(photo.frame.pane)
    return ArrayRaster(frame(side, side, cell), photo.bands, held.cells)


def compared(one: Any, other: Any, **options: Any) -> Any:
    receipt: Any = call("compare", [one, other], **options)
    return receipt.own


@pytest.fixture(scope="module")
def still() -> ArrayRaster:
    return shot(0, 0)


SHIFTS = [(0.5, -0.1), (-7.37, 12.1), (0.1, 0.5), (0.03, -0.03), (0.0, 0.0)]


@pytest.mark.parametrize("columns, rows", depth.some(SHIFTS, SHIFTS[1:2]))
def test_a_shift_of_the_scene_itself_is_found_to_a_hundredth_of_a_cell(
    still: ArrayRaster, columns: float, rows: float
) -> None:
    shift = compared(still, shot(columns, rows))["shift"]
    assert (shift["columns"], shift["rows"]) == pytest.approx((-columns, -rows), abs=0.01)
    assert shift["confidence"] > 0.95


@pytest.mark.deep
def test_a_shift_is_found_through_voids_seams_and_another_exposure(still: ArrayRaster) -> None:
    other = shot(0.5, -0.25)
    cells = (other.values * 0.7 + 20).astype(np.uint8)
    cells[:, :, 430:] = np.roll(cells, 40, axis=1)[:, :, 430:]  # a sheet that was put in the wrong place
    cells[:, 600:] = (other.values * 0.7 + 20).astype(np.uint8)[:, 600:]
    known = np.random.default_rng(3).random(cells.shape[1:]) > 0.02
    known[200:330, 100:300] = False
    shift = compared(still, ArrayRaster(other.frame, other.bands, cells, known))["shift"]
    assert (shift["columns"], shift["rows"]) == pytest.approx((-0.5, 0.25), abs=0.02)
    assert shift["confidence"] < 0.95


ROW, COLUMN = np.mgrid[:500, :500].astype(float)
CHANCE = np.random.default_rng(6)


@pytest.mark.parametrize(
    "one, other, why",
    [
        (ROW * 0 + 5, ROW * 0 + 6, "flat"), (ROW * 0.3 + COLUMN, ROW * 0.3 + COLUMN + 2, "flat"),
        (np.sin(COLUMN / 3) * np.cos(ROW / 4), np.sin(COLUMN / 3) * np.cos(ROW / 4), "repeats"),
        ((ROW + COLUMN) % 2, (ROW + COLUMN) % 2, "repeats"), (np.sin(COLUMN**2 / 900), np.sin(COLUMN**2 / 900), "repeats"),
        (CHANCE.normal(size=(500, 500)), CHANCE.normal(size=(500, 500)), "not alike"),
        (CHANCE.normal(size=(12, 12)), CHANCE.normal(size=(12, 12)), "too little"),
    ],
)  # fmt: skip
def test_where_nothing_tells_a_shift_that_is_said(one: Any, other: Any, why: str) -> None:
    found = call("compare", [raster(one), raster(other)], at_most=("shift=3",))
    assert isinstance(found, Receipt) and found.own["shift"] is None and why in found.own["no_shift"]
    assert found.checks == (fact("limit_unknown", figure="shift"),)


def test_confusion_of_classes_is_counted_and_named(zembrel: Program) -> None:
    chance = np.random.default_rng(8)
    truth = chance.integers(1, 4, (60, 70)).astype(np.uint8)
    found = np.where(chance.random(truth.shape) < 0.2, chance.integers(1, 4, truth.shape), truth).astype(
        np.uint8
    )
    names = Legend.of(
        [
            LegendEntry(1, "wood", (0, 90, 0)),
            LegendEntry(2, "bog", (90, 60, 0)),
            LegendEntry(3, "sea", (0, 0, 90)),
        ]
    )
    rasters = raster(truth, legend=names), raster(found, legend=names)
    own = compared(*rasters)["classes"]
    apart = Disagreeing(*rasters)
    assert (apart.cells(apart.frame.pane).cells[0] == (truth != found)).all()
    table = (
        np.array([[((truth == a) & (found == b)).sum() for b in (1, 2, 3)] for a in (1, 2, 3)]) / truth.size
    )
    chances = (table.sum(0) * table.sum(1)).sum()
    assert own["agreement"] == pytest.approx(np.trace(table))
    assert own["kappa"] == pytest.approx((np.trace(table) - chances) / (1 - chances))
    told = {(row["first"], row["second"]): row["cells"] for row in own["confused"]}
    assert told == {
        (a, b): round(table[a - 1, b - 1] * truth.size) for a in (1, 2, 3) for b in (1, 2, 3) if a != b
    }
    assert own["confused"][0]["names"][0] in ("wood", "bog", "sea")


def test_land_cover_to_polygons_and_back_is_identical(zembrel: Program, marrowick: Path) -> None:
    shutil.copy(marrowick / "landcover.tif", zembrel.folder)
    for words in ([], ["--diagonal"], ["--dissolve"]):
        zembrel("polygonize", "landcover.tif", *words, "--out", "back.gpkg", "--replace")
        there = ("--field", "value", "--onto", "landcover.tif", "--out", "back.tif", "--replace")
        zembrel("rasterize", "back.gpkg", *there)
        found = zembrel("compare", "landcover.tif", "back.tif", "--at-least", "share=1", "--json").json
        assert found["verdict"] == "identical" and found["cells"] == 832_000


def test_the_page_swipes_flickers_and_shows_the_difference_by_itself(zembrel: Program) -> None:
    blue, red = np.zeros((3, 300, 400), np.uint8), np.zeros((3, 300, 400), np.uint8)
    blue[2], red[0] = 200, 200
    save(zembrel.folder / "blue.tif", raster(blue))
    save(zembrel.folder / "red.tif", raster(red))
    zembrel("compare", "blue.tif", "red.tif", "--page", "p.html")
    page = (zembrel.folder / "p.html").read_text("utf-8")
    assert "http:" not in page and "https:" not in page and "$" not in page
    with Browser(zembrel.folder) as browser:
        browser.open(zembrel.folder / "p.html")
        box = browser.value("(function(){var b=document.getElementById('stage').getBoundingClientRect();"
                            "return [b.left,b.top,b.width,b.height]})()")  # fmt: skip

        def seen(across: float) -> tuple[int, ...]:
            shown = Image.open(io.BytesIO(browser.picture())).convert("RGB")
            return shown.getpixel((round(box[0] + across * box[2]), round(box[1] + 0.8 * box[3])))  # type: ignore[return-value]

        assert seen(0.3)[2] > 150 > seen(0.3)[0] and seen(0.7)[0] > 150 > seen(0.7)[2]
        middle = box[1] + box[3] / 2
        browser.drag((box[0] + box[2] / 2, middle), (box[0] + 0.1 * box[2], middle))
        assert seen(0.3)[0] > 150, "the second is uncovered to the left"
        browser.press("ArrowLeft")
        assert browser.value("document.getElementById('bar').style.left").startswith("8")
        browser.click("flicker")
        browser.press(" ")
        before = seen(0.3)
        browser.press(" ")
        assert seen(0.3) != before and {seen(0.3)[0] > 150, before[0] > 150} == {True, False}
        browser.click("difference")
        assert (
            seen(0.3) == seen(0.7)
            and browser.value("document.getElementById('hint').textContent") == "blue less red"
        )


def test_any_name_of_a_file_leaves_the_script_of_the_page_whole(zembrel: Program) -> None:
    names = ("a\\.tif", 'b"</script>.tif')
    for n, name in enumerate(names):
        save(zembrel.folder / name, raster(random_cells(20, 30, seed=n), where=frame(30, 20)))
    zembrel("compare", *names, "--page", "p.html", code=None)
    text = (zembrel.folder / "p.html").read_text("utf-8")
    told = json.loads(
        next(line for line in text.splitlines() if line.strip().startswith("difference: ")).partition(": ")[2]
    )
    assert names[0].removesuffix(".tif") in told and text.count("</script>") == 1
