"""Two maps of classes: what became what, cell by cell and in a table, and no shift where classes changed."""

from __future__ import annotations

import csv
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image

from program import Program
from rasters import ArrayRaster, frame, raster, save
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Frame
from zembrel.raster.legend import Legend, LegendEntry, shade

NAMES = {0: "bog", 3: "heath", 12: "wood", 40: "rock"}


def classes(cells: Any, where: Frame, valid: Any = None, names: dict[int, str] = NAMES) -> ArrayRaster:
    entries = [LegendEntry(code, name, shade(n)) for n, (code, name) in enumerate(names.items())]
    return raster(cells, valid, where, legend=Legend.of(entries))


def maps(folder: Path, *, at: str = "utm", moved: bool = False) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Two maps of large patches, the second with changes or moved by three columns; and where both are valid."""
    chance = np.random.default_rng(8)
    codes = np.array(list(NAMES), np.uint8)
    base = codes[chance.integers(0, 4, (30, 40))].repeat(8, 0).repeat(8, 1)
    later = base.copy()
    if moved:
        later[:, 3:] = base[:, :-3]
    else:
        later[40:90, 50:120] = 12
        later[150:160, :] = 3
    known = np.ones(base.shape, bool)
    known[:5, :7] = False
    where = frame(320, 240, cell=10.0) if at == "utm" else frame(320, 240, 0.001, -24.0, 46.0, by_code(4326))
    save(folder / "a.tif", classes(base, where))
    save(folder / "b.tif", classes(later, where, known))
    return base, later, known


@pytest.mark.parametrize("at", ["utm", "degrees"])
def test_changes_are_coded_named_and_counted_on_the_ground(zembrel: Program, at: str) -> None:
    base, later, known = maps(zembrel.folder, at=at)
    words = "--difference", "d.tif", "--table", "t.csv"
    said = zembrel("compare", "a.tif", "b.tif", *words, "--json").json
    assert said["shift"] is None and "classes changed" in said["no_shift"]
    cells = tifffile.imread(zembrel.folder / "d.tif")
    want = np.where(base == later, 0, base.astype(int) * 100 + later)
    assert (cells[known] == want[known]).all()
    band = open_raster(zembrel.folder / "d.tif").bands[0]
    assert (cells[~known] == band.nodata).all() and band.legend is not None
    names = {entry.code: entry.name for entry in band.legend.entries}
    assert names[0] == "unchanged" and names[312] == "heath -> wood" and names[4003] == "rock -> heath"
    assert set(np.unique(want[known]).tolist()) == set(names)
    with (zembrel.folder / "t.csv").open() as file:
        rows = list(csv.DictReader(file))
    counts = Counter(zip(base[known].tolist(), later[known].tolist(), strict=True))
    assert {(int(r["from"]), int(r["to"])): int(r["cells"]) for r in rows} == counts
    assert sum(float(r["percent"]) for r in rows) == pytest.approx(100)
    assert {r["from_name"] for r in rows} == set(NAMES.values())
    # 10 m cells here are 0.04 % larger on the ground; of degrees a quarter of a square of 0.001 at 46 degrees
    hectare = 0.01 if at == "utm" else 0.001**2 * 111_143 * 77_453 / 10_000
    for row in rows:
        assert float(row["hectares"]) == pytest.approx(hectare * int(row["cells"]), rel=4e-3)


def test_a_map_that_moved_as_a_whole_is_told_its_shift(zembrel: Program) -> None:
    maps(zembrel.folder, moved=True)
    said = zembrel("compare", "a.tif", "b.tif", "--json").json
    assert said["shift"]["columns"] == pytest.approx(3, abs=0.3)


def test_what_has_no_classes_or_no_codes_of_changes_is_refused(zembrel: Program) -> None:
    heights = np.random.default_rng(1).normal(0, 9, (40, 40))
    for name in ("h.tif", "i.tif"):
        save(zembrel.folder / name, raster(heights, where=frame(40, 40)))
    assert "--table" in zembrel.refuses(2, "compare", "h.tif", "i.tif", "--table", "t.csv")[0]
    codes = np.where(heights > 0, 7, -3).astype(np.int16)
    for name in ("n.tif", "m.tif"):
        save(zembrel.folder / name, classes(codes, frame(40, 40), names={7: "a", -3: "b"}))
    assert "classify" in zembrel.refuses(4, "compare", "n.tif", "m.tif", "--difference", "d.tif")[2]
    assert not (zembrel.folder / "d.tif").exists()


def test_the_picture_of_changes_shows_their_colours(zembrel: Program) -> None:
    maps(zembrel.folder)
    zembrel("compare", "a.tif", "b.tif", "--difference", "d.tif")
    zembrel("draw", "d.tif", "--out", "p.png")
    shown = set(
        map(tuple, np.asarray(Image.open(zembrel.folder / "p.png").convert("RGB")).reshape(-1, 3).tolist())
    )
    assert (225, 225, 225) in shown and (0, 114, 178) in shown
