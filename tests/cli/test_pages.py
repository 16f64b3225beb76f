"""describe --page: what a layer looks like and is, on one page; of many a sheet."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from PIL import Image

from browser import Browser
from program import Program
from rasters import frame, raster, save


def test_a_page_shows_the_picture_and_every_fact(zembrel: Program) -> None:
    column, row = np.meshgrid(np.arange(120.0), np.arange(90.0))
    save(zembrel.folder / "h.tif", raster((column + row).astype(np.float32), where=frame(120, 90), unit="m"))
    for ending in ("png", "pdf", "svg", "html"):
        said = zembrel("describe", "h.tif", "--page", f"p.{ending}")
        assert "EPSG:32626" in said.out and f"wrote     p.{ending}" in said.err
    assert Image.open(zembrel.folder / "p.png").size == (1280, 800)
    drawn = (zembrel.folder / "p.svg").read_text("utf-8")
    for word in (
        "easting (m)",
        "share of cells (%)",
        "band1 (m)",
        "120 columns x 90 rows, values on cells",
        "h",
    ):
        assert f"<!-- {word} -->" in drawn, word
    assert zembrel.refuses(4, "describe", "h.tif", "--page", "p.png")
    assert "p.tif is no page name" in zembrel.refuses(2, "describe", "h.tif", "--page", "p.tif")[0]


def test_the_page_opens_in_a_browser_without_a_word_cut(zembrel: Program) -> None:
    save(zembrel.folder / "a_b<c>.tif", raster(np.zeros((3, 60, 80), np.uint8)))
    zembrel("describe", "a_b<c>.tif", "--page", "p.html")
    with Browser(zembrel.folder) as browser:
        browser.open(zembrel.folder / "p.html")
        assert browser.value("document.querySelector('h1').textContent") == "a_b<c>.tif"
        assert browser.value("document.images[0].naturalWidth") == 1280
        assert browser.value("document.documentElement.scrollWidth <= innerWidth") is True
        assert "3 uint8" in browser.value("document.body.textContent")
        assert Image.open(io.BytesIO(browser.picture())).size[0] == 1280


def test_a_folder_becomes_a_contact_sheet(zembrel: Program, marrowick: Path) -> None:
    said = zembrel("describe", marrowick / "ortho", marrowick / "dem", "--page", "s.png")
    assert "a sheet of 10 layers" in said.err
    sheet = np.asarray(Image.open(zembrel.folder / "s.png").convert("RGB")).astype(int)
    assert sheet.shape[1] == 1280 and (np.ptp(sheet, axis=2) > 40).sum() > 80_000
    zembrel("describe", marrowick / "ortho", "--page", "s.svg")
    assert "<!-- m3.tif -->" in (zembrel.folder / "s.svg").read_text("utf-8")
