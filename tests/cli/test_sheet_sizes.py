"""Sheets by the size of their files: none is larger than asked, and no split into fewer would do."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from depth import some
from program import Program, listing
from rasters import raster, save

LONGEST = 3  # times its width that a sheet is long at most, unless the whole is longer


def largest(folder: Path) -> int:
    return max(path.stat().st_size for path in folder.iterdir() if not path.name.startswith("."))


def splits(count: int, width: float, height: float) -> list[tuple[int, int]]:
    """Each way to cut into `count` sheets that are no strips."""
    pairs = [(n, count // n) for n in range(1, count + 1) if count % n == 0]
    most = max(LONGEST, width / height, height / width) + 1e-6
    shapes = {pair: width / pair[0] / (height / pair[1]) for pair in pairs}
    return [pair for pair, shape in shapes.items() if max(shape, 1 / shape) <= most]


def scene(folder: Path, shape: tuple[int, int]) -> None:
    """Noise in one corner, which no coder makes small, a slope elsewhere, and void along the south."""
    rows, columns = np.mgrid[: shape[0], : shape[1]]
    values = (rows + columns) // 8
    noisy = (rows < shape[0] / 3) & (columns < shape[1] / 2)
    values[noisy] = np.random.default_rng(5).integers(0, 60_000, int(noisy.sum()))
    save(folder / "scene.tif", raster(values.astype(np.uint16), rows < 0.9 * shape[0]))


@pytest.mark.parametrize(
    "shape, most, words",
    some(
        [
            ((300, 400), 30_000, ()), ((300, 400), 40_000, ("--margin", "8")), ((300, 400), 200_000, ()), ((90, 900), 12_000, ()),
            ((300, 400), 40_000, ("--format", "png")), ((700, 900), 150_000, ("--compress", "lzw")), ((600, 600), 60_000, ()),
        ],
        [((300, 400), 40_000, ("--margin", "8")), ((90, 900), 12_000, ())],
    ),
)  # fmt: skip
def test_sheets_stay_below_a_size_and_no_split_into_fewer_would(
    zembrel: Program, shape: tuple[int, int], most: int, words: tuple[str, ...]
) -> None:
    scene(zembrel.folder, shape)
    said = zembrel("tile", "scene.tif", "--at-most", f"{most}B", *words, "--out", "made", "--json").json
    (found,) = (fact for fact in said["chose"] if fact["fact"] == "split_found")
    count = found["columns"] * found["rows"]
    assert largest(zembrel.folder / "made") == found["largest"] <= most
    split = f"{found['columns']}x{found['rows']}"
    zembrel("tile", "scene.tif", "--split", split, *words, "--out", "again")
    made, again = ({path.name for path in (zembrel.folder / name).iterdir()} for name in ("made", "again"))
    assert made == again
    for fewer in range(1, count):
        for columns, rows in splits(fewer, shape[1], shape[0]):
            out = f"{columns}x{rows}"
            zembrel("tile", "scene.tif", "--split", out, *words, "--out", out)
            assert largest(zembrel.folder / out) > most - 16, out  # their provenance is a few letters shorter


def test_sheets_of_points_stay_below_a_size_and_no_split_into_fewer_would(zembrel: Program) -> None:
    """A dense line across a thin cloud."""
    random = np.random.default_rng(9)
    thin, dense = random.uniform(0, 1, (6000, 2)) * (400, 300), random.uniform(0, 1, (9000, 2)) * (400, 20)
    places = np.concatenate([thin, dense])
    rows = "\n".join(f"{730_000 + x:.2f},{5_100_000 + y:.2f},{n % 50}" for n, (x, y) in enumerate(places))
    (zembrel.folder / "cloud.csv").write_text(f"x,y,z\n{rows}\n")
    zembrel("convert", "cloud.csv", "--columns", "x,y,z", "--from-crs", "EPSG:32626", "--out", "cloud.laz")
    most = 30_000
    said = zembrel("tile", "cloud.laz", "--at-most", f"{most}B", "--out", "made", "--json").json
    (found,) = (fact for fact in said["chose"] if fact["fact"] == "split_found")
    assert largest(zembrel.folder / "made") <= most and said["points"] == 15_000
    for fewer in range(1, found["columns"] * found["rows"]):
        for columns, across in splits(fewer, 400, 300):
            out = f"{columns}x{across}"
            zembrel("tile", "cloud.laz", "--split", out, "--out", out)
            assert largest(zembrel.folder / out) > most, out


def test_a_size_that_nothing_fits_and_a_dry_run_write_nothing(zembrel: Program) -> None:
    scene(zembrel.folder, (120, 160))
    before = listing(zembrel.folder)
    assert "10,000 sheets" in zembrel("tile", "scene.tif", "--at-most", "60B", "--out", "o", code=4).err
    assert "not a size" in zembrel.refuses(2, "tile", "scene.tif", "--at-most", "small", "--out", "o")[0]
    assert (
        "2 ways"
        in zembrel.refuses(2, "tile", "scene.tif", "--at-most", "9kB", "--cells", "9", "--out", "o")[0]
    )
    said = zembrel("tile", "scene.tif", "--at-most", "10kB", "--out", "o", "--dry-run").err
    assert "without compression" in said and listing(zembrel.folder) == before
    planned = zembrel("tile", "scene.tif", "--at-most", "10kB", "--out", "o", "--dry-run", "--json").json
    (split,) = (fact for fact in planned["chose"] if fact["fact"] == "split_planned")
    assert math.prod((split["columns"], split["rows"])) >= 120 * 160 * 2 / 10_000
