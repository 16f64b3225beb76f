"""mask, fill and paint on small files, against plain arrays."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.raster.legend import Legend, LegendEntry

HEIGHTS = (np.add.outer(np.arange(60.0), 2 * np.arange(80.0)) + 5).astype(np.float32)


@pytest.fixture
def program(tmp_path: Path) -> Program:
    return Program(tmp_path)


def read(path: Path) -> tuple[Any, Any]:
    source = open_raster(path)
    block = source.cells(source.frame.pane)
    return block.cells, block.valid_of(0)


@pytest.mark.parametrize(
    "words, blank",
    [
        (("--where", "value < 50 or value >= 150"), (HEIGHTS < 50) | (HEIGHTS >= 150)),
        (("--where", "50 <= value < 150", "--keep"), (HEIGHTS < 50) | (HEIGHTS >= 150)),
        (("--where", "red > 128", "--by", "other.tif"), None),
        (("--by", "other.tif"), None),
    ],
)
def test_mask_blanks_where_it_is_told(program: Program, words: tuple[str, ...], blank: Any) -> None:
    """The other layer has cells of half the size and ends in the middle of this one."""
    save(program.folder / "h.tif", raster(HEIGHTS))
    other = random_cells(3, 60, 160)
    save(program.folder / "other.tif", raster(other, where=frame(160, 60, cell=5.0)))
    program("mask", "h.tif", *words, "--out", "m.tif")
    cells, valid = read(program.folder / "m.tif")
    if blank is None:
        there = np.zeros((60, 80), bool)
        there[:30] = True
        red = np.zeros((60, 80))
        red[:30] = other[0, 1::2, 1::2]
        blank = (red > 128) & there if "--where" in words else ~there
    np.testing.assert_array_equal(valid, ~blank)
    np.testing.assert_array_equal(cells[0][valid], HEIGHTS[valid])


def test_fill_closes_what_is_near_and_leaves_the_rest(program: Program) -> None:
    valid = np.ones((60, 80), bool)
    valid[10:16, 10:16] = valid[20:55, 30:70] = False
    save(program.folder / "v.tif", raster(HEIGHTS, valid))
    said = program("fill", "v.tif", "--reach", "40m", "--out", "f.tif")
    cells, known = read(program.folder / "f.tif")
    assert known[10:16, 10:16].all() and not known[30:45, 40:60].any()
    np.testing.assert_array_equal(cells[0][valid], HEIGHTS[valid])
    assert np.abs(cells[0] - HEIGHTS)[known].max() < 9
    closed = int((known & ~valid).sum())
    assert f"{closed:,} of {int((~valid).sum()):,} void cells closed" in said.err
    flat = np.where(valid, 7, 0).astype(np.uint8)
    legend = Legend.of([LegendEntry(7, "heath", (1, 2, 3)), LegendEntry(9, "wood", (4, 5, 6))])
    flat[:, 40:] = np.where(valid[:, 40:], 9, 0)
    save(program.folder / "c.tif", raster(flat, valid, legend=legend))
    program("fill", "c.tif", "--reach", "30", "--out", "g.tif")
    codes, known = read(program.folder / "g.tif")
    assert known.all() and set(np.unique(codes).tolist()) == {7, 9}


@pytest.mark.parametrize("side", ["16", "64"])
def test_filling_does_not_show_the_blocks(program: Program, side: str) -> None:
    valid = random_cells(150, 170) > 150
    save(program.folder / "v.tif", raster(random_cells(150, 170, kind="int16"), valid, nodata=-1), tile="16")
    program("fill", "v.tif", "--reach", "7", "--out", "a.tif", "--set", f"tile={side}", "--workers", "2")
    program("fill", "v.tif", "--reach", "7", "--out", "b.tif", "--set", "tile=512", "--workers", "1")
    one, other = read(program.folder / "a.tif"), read(program.folder / "b.tif")
    np.testing.assert_array_equal(one[1], other[1])
    np.testing.assert_array_equal(one[0][0][one[1]], other[0][0][other[1]])


def test_paint_by_a_ramp_of_grey_is_the_value(program: Program) -> None:
    valid = HEIGHTS > 20
    save(program.folder / "h.tif", raster(HEIGHTS, valid))
    program("paint", "h.tif", "--ramp", "gray", "--limits", "0,255", "--out", "p.tif")
    cells, known = read(program.folder / "p.tif")
    np.testing.assert_array_equal(known, valid)
    assert (cells[0] == cells[1]).all() and (cells[1] == cells[2]).all()
    assert np.abs(cells[0][valid] - HEIGHTS[valid]).max() <= 1


def test_paint_shades_a_plane_as_its_slope_says(program: Program) -> None:
    """A plane rising to the east and south: one brightness all over, from the angle between sun and normal."""
    save(program.folder / "h.tif", raster(HEIGHTS, unit="m"))
    program(
        "paint", "h.tif", "--ramp", "gray", "--limits", "-1,0", "--shade", "--sun", "90,30", "--out", "p.tif"
    )
    cells, _ = read(program.folder / "p.tif")
    normal = np.array([-0.2, 0.1, 1]) / math.hypot(0.2, 0.1, 1)
    towards = np.array([math.cos(math.radians(30)), 0, math.sin(math.radians(30))])
    expected = 255 * (0.35 + 0.92 * float(normal @ towards))
    assert np.abs(cells[0] - expected).max() <= 1.5


def test_paint_by_a_legend_and_refusals(program: Program) -> None:
    legend = Legend.of([LegendEntry(1, "sea", (10, 20, 30)), LegendEntry(2, "land", (40, 50, 60))])
    save(program.folder / "c.tif", raster((random_cells(9, 9) % 2 + 1).astype(np.uint8), legend=legend))
    program("paint", "c.tif", "--out", "p.png")
    cells, _ = read(program.folder / "p.png")
    np.testing.assert_array_equal(cells[0], np.where(random_cells(9, 9) % 2, 40, 10))
    for words in (
        ("paint", "c.tif", "--ramp", "viridus"), ("paint", "c.tif", "--sun", "300"), ("mask", "c.tif"),
        ("paint", "c.tif", "--ramp", "gray", "--limits", "9,2"), ("fill", "c.tif"), ("fill", "c.tif", "--reach", "20km"),
        ("mask", "c.tif", "--where", "valeu > 3"),
    ):  # fmt: skip
        program.refuses(2, *words, "--out", "x.tif")


@pytest.mark.parametrize("ending", ["tif", "png"])
def test_a_feathered_edge_fades_over_its_width(program: Program, ending: str) -> None:
    """Around a circle opacity grows by the distance from its outline; what lies outside is invalid."""
    save(program.folder / "p.tif", raster(random_cells(3, 120, 120)))
    area = "circle:730600,5099400,400"
    program("clip", "p.tif", "--within", area, "--feather", "100m", "--out", f"f.{ending}")
    stored = (
        tifffile.imread(program.folder / "f.tif")
        if ending == "tif"
        else np.asarray(Image.open(program.folder / "f.png"))
    )
    assert stored.shape == (80, 80, 4)
    rows, cols = np.mgrid[:80, :80] + 0.5
    from_edge = 40 - np.hypot(rows - 40, cols - 40)
    wanted = np.clip(from_edge / 10, 0, 1) * 255
    assert np.abs(stored[..., 3] - wanted).max() < 45
    assert (stored[..., 3] == 255)[from_edge > 11].all() and (stored[..., 3] == 0)[from_edge < -1].all()
    np.testing.assert_array_equal(
        stored[30:50, 30:50, :3], random_cells(3, 120, 120)[:, 50:70, 50:70].transpose(1, 2, 0)
    )
    _, valid = read(program.folder / f"f.{ending}")
    np.testing.assert_array_equal(valid, stored[..., 3] > 0)
    for words in (("--within", "730100,5099100,730400,5099400"), ("--within", area, "--outside")):
        program.refuses(2, "clip", "p.tif", *words, "--feather", "5", "--out", "x.tif")


def test_a_plan_tells_what_would_be_read_and_lost(program: Program) -> None:
    save(program.folder / "h.tif", raster(HEIGHTS))
    said = program("resample", "h.tif", "--cell", "40m", "--out", "x.tif", "--dry-run").err
    assert "reads" in said and "1 input" in said and "4 times as large as native: detail is lost" in said
    assert "memory about" in said and "free" in said and not (program.folder / "x.tif").exists()
    said = program("resample", "h.tif", "--cell", "2m", "--out", "x.tif", "--dry-run").err
    assert "5 times as small as native: detail is made up" in said
