"""Opacity travels: kept exactly by native-cell work, weighed by resampling, never flattened unasked."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image

from program import Program

WORLD = "10\n0\n0\n-10\n730005\n5099995\n"


def picture(folder: Path, name: str = "soft.png", mode: str = "RGBA", seed: int = 3) -> np.ndarray:
    """A picture of 40 x 30 cells with every opacity from 0 to 255, saved with its place."""
    numbers = np.random.default_rng(seed)
    bands = len(mode)
    cells = numbers.integers(0, 256, (30, 40, bands), dtype=np.uint8)
    cells[..., -1] = np.arange(1200).reshape(30, 40) % 256
    cells[cells[..., -1] == 0] = 0
    lossless = {"lossless": True, "exact": True} if name.endswith(".webp") else {}
    Image.fromarray(cells if bands > 1 else cells[..., 0], mode).save(folder / name, **lossless)
    (folder / name).with_suffix(f".{name[-3]}{name[-1]}w").write_text(WORLD)
    return cells


def read(path: Path) -> np.ndarray:
    """The cells of a result, (rows, columns, bands), by packages that share no code with the program."""
    if path.suffix == ".tif":
        with tifffile.TiffFile(path) as file:
            page = file.pages[0]
            assert page.extrasamples == (2,), "unassociated opacity, and nothing else"
            return page.asarray()
    return np.asarray(Image.open(path))


@pytest.mark.parametrize("ending", ["tif", "png", "webp", "jp2"])
@pytest.mark.parametrize("mode", ["RGBA", "LA"])
def test_native_cells_keep_their_opacity_to_the_bit(zembrel: Program, ending: str, mode: str) -> None:
    cells = picture(zembrel.folder, mode=mode)
    west, south, east, north = 730000, 5099700, 730400, 5100000
    zembrel("convert", "soft.png", "--out", f"a.{ending}")
    zembrel("clip", f"a.{ending}", "--within", f"{west},{south},{east},{north}", "--out", f"b.{ending}")
    zembrel("tile", f"b.{ending}", "--split", "2x1", "--format", "geotiff", "--out", "sheets/")
    zembrel("mosaic", "sheets/", "--out", f"c.{ending}")
    if mode == "LA" and ending == "webp":
        cells = cells[..., [0, 0, 0, 1]]
    for name in ("a", "b", "c"):
        np.testing.assert_array_equal(read(zembrel.folder / f"{name}.{ending}"), cells)


@pytest.mark.parametrize("verb", ["resample", "reproject"])
def test_colours_are_weighed_by_their_opacity(zembrel: Program, verb: str) -> None:
    cells = picture(zembrel.folder).astype(float)
    where = ("--cell", "20") if verb == "resample" else ("--onto", "twice.frame.toml")
    zembrel("frame", "--within", "730000,5099700,730400,5100000", "--crs", "EPSG:32626", "--cell", "20", "--out",
            "twice.frame.toml")  # fmt: skip
    zembrel(verb, "soft.png", "--from-crs", "EPSG:32626", *where, "--method", "mean", "--out", "half.tif")
    four = cells.reshape(15, 2, 20, 2, 4).transpose(0, 2, 1, 3, 4).reshape(15, 20, 4, 4)
    alpha, known = four[..., 3], four[..., 3] > 0
    total = alpha.sum(axis=2)
    colours = (four[..., :3] * alpha[..., None]).sum(axis=2) / np.maximum(total, 1)[..., None]
    opacity = total / np.maximum(known.sum(axis=2), 1)
    found = read(zembrel.folder / "half.tif").astype(float)
    assert np.abs(found[..., 3] - opacity).max() <= 0.5 + 1e-4
    assert np.abs(found[..., :3] - colours)[opacity > 1].max() <= 0.51


@pytest.mark.parametrize("ending", ["jpg", "bmp"])
def test_what_cannot_hold_opacity_refuses_or_lays_it_over_a_colour(zembrel: Program, ending: str) -> None:
    cells = picture(zembrel.folder)
    what, why, remedy = zembrel.refuses(4, "convert", "soft.png", "--out", f"flat.{ending}")
    partly = int(((cells[..., 3] > 0) & (cells[..., 3] < 255)).sum())
    assert "partly transparent" in what and f"{partly:,}" in why and "--flatten" in remedy
    zembrel("convert", "soft.png", "--flatten", "#204060", "--out", "flat.png")
    over = Image.new("RGBA", (40, 30), "#204060")
    over.alpha_composite(Image.fromarray(cells, "RGBA"))
    gap = read(zembrel.folder / "flat.png").astype(int) - np.asarray(over)[..., :3]
    assert np.abs(gap).max() <= 1
    said = zembrel("convert", "soft.png", "--flatten", "#204060", "--out", f"flat.{ending}")
    assert "opacity flattened onto #204060" in said.err


def test_opacity_of_all_or_nothing_needs_no_word(zembrel: Program) -> None:
    cells = picture(zembrel.folder)
    cells[..., 3] = np.where(cells[..., 3] > 99, 255, 0)
    Image.fromarray(cells, "RGBA").save(zembrel.folder / "soft.png")
    assert "all or nothing" in zembrel("convert", "soft.png", "--out", "hard.jpg").err
    zembrel("convert", "soft.png", "--compress", "jpeg", "--out", "hard.tif")
    mask = tifffile.imread(zembrel.folder / "hard.tif", key=1)
    np.testing.assert_array_equal(mask > 0, cells[..., 3] > 0)


def test_sheets_with_and_without_opacity_are_joined(zembrel: Program) -> None:
    soft = picture(zembrel.folder)
    plain = picture(zembrel.folder, "plain.png", "RGB", seed=4)
    (zembrel.folder / "plain.pgw").write_text(WORLD.replace("730005", "730405"))
    said = zembrel("mosaic", "soft.png", "plain.png", "--out", "both.tif")
    found = read(zembrel.folder / "both.tif")
    assert "full opacity where an input has none" in said.err
    np.testing.assert_array_equal(found[:, :40], soft)
    np.testing.assert_array_equal(found[:, 40:, :3], plain)
    assert (found[:, 40:, 3] == 255).all()


def test_describe_names_opacity_and_deep_cells_scale_it(zembrel: Program) -> None:
    cells = picture(zembrel.folder)
    assert "alpha" in zembrel("describe", "soft.png").out
    zembrel("convert", "soft.png", "--type", "uint16", "--out", "deep.tif")
    found = read(zembrel.folder / "deep.tif")
    np.testing.assert_array_equal(found[..., 3], cells[..., 3].astype(np.uint16) * 257)
    seen = cells[..., 3] > 0
    np.testing.assert_array_equal(found[seen][:, :3], cells[seen][:, :3])


def test_a_palette_that_can_be_seen_through_is_colours(zembrel: Program) -> None:
    codes = np.arange(64, dtype=np.uint8).reshape(8, 8) % 4
    image = Image.fromarray(codes, "P")
    image.putpalette([10, 20, 30, 200, 0, 0, 0, 200, 0, 0, 0, 200])
    image.save(zembrel.folder / "p.png", transparency=bytes([0, 60, 128, 255]))
    zembrel("convert", "p.png", "--out", "p.tif")
    expected = np.asarray(Image.open(zembrel.folder / "p.png").convert("RGBA"))
    found = read(zembrel.folder / "p.tif")
    np.testing.assert_array_equal(found[..., 3], expected[..., 3])
    np.testing.assert_array_equal(found[found[..., 3] > 0], expected[expected[..., 3] > 0])


def test_a_picture_drawn_of_it_shows_what_lies_behind(zembrel: Program) -> None:
    cells = np.zeros((40, 40, 4), np.uint8)
    cells[..., 3] = 51
    Image.fromarray(cells, "RGBA").save(zembrel.folder / "faint.png")
    (zembrel.folder / "faint.pgw").write_text(WORLD)
    zembrel("draw", "faint.png", "--out", "shown.png")
    shown = np.asarray(Image.open(zembrel.folder / "shown.png").convert("L"))
    assert shown[shown.shape[0] // 2, shown.shape[1] // 2] > 150
