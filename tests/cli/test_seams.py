"""Sheets leave no trace: any cutting of a raster gives, cell for cell, what the whole gives."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest
import tifffile

import depth
from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.cli import guarded

METHODS = ("nearest", "bilinear", "cubic", "lanczos", "mean", "mode", "min", "max", "median", "sum",
           "percentile:30")  # fmt: skip
SIDE = 90


def ground(kind: str) -> tuple[np.ndarray, np.ndarray]:
    """Cells that jump by much from one to the next, and where they are valid: voids of all sizes."""
    cells = random_cells(SIDE, SIDE, kind=kind, seed=5)
    cells = np.round(cells % 500).astype(kind) if kind == "float32" else cells
    rows, cols = np.mgrid[:SIDE, :SIDE]
    valid = (np.hypot(rows - 44, cols - 47) > 6) & (random_cells(SIDE, SIDE, seed=6) > 8)
    return cells, valid


def cut(folder: Path, cells: np.ndarray, valid: np.ndarray, edges: tuple[int, ...], overlap: int) -> None:
    """Sheets of one lattice that meet at `edges`, or overlap by so many cells."""
    ends = (0, *edges, SIDE)
    for top, bottom in itertools.pairwise(ends):
        for left, right in itertools.pairwise(ends):
            part = slice(top, min(bottom + overlap, SIDE)), slice(left, min(right + overlap, SIDE))
            where = frame(part[1].stop - left, part[0].stop - top, left=730_000 + 10 * left,
                          top=5_100_000 - 10 * top)  # fmt: skip
            source = raster(cells[..., *part], valid[part], where)
            save(folder / f"sheets/{top:02}_{left:02}.tif", source)


def read(path: Path) -> np.ndarray:
    with tifffile.TiffFile(path) as file:
        pages = [page.asarray() for page in file.pages if page.subfiletype in (0, 4)]
    return pages[0] if len(pages) == 1 else np.dstack(pages)


PLACES = [("--cell", "7"), ("--cell", "23"), ("--crs", "EPSG:32627", "--cell", "9.3")]
CUTS = list(itertools.product(PLACES, METHODS, (0, 7)))


@pytest.mark.parametrize(("where", "method", "overlap"), depth.some(CUTS, CUTS[1::16]))
def test_a_mosaic_of_sheets_is_the_whole(
    zembrel: Program, monkeypatch: pytest.MonkeyPatch, method: str, where: tuple[str, ...], overlap: int
) -> None:
    cells, valid = ground("float32")
    save(zembrel.folder / "whole.tif", raster(cells, valid))
    cut(zembrel.folder, cells, valid, (31, 44, 71), overlap)
    verb = "reproject" if "--crs" in where else "resample"
    monkeypatch.chdir(zembrel.folder)
    assert not guarded([verb, "whole.tif", *where, "--method", method, "--out", "one.tif", "-q"])
    words = ["mosaic", "sheets/", "--onto", "one.tif", "--method", method, "--out", "two.tif", "-q"]
    assert not guarded(words)
    np.testing.assert_array_equal(read(zembrel.folder / "two.tif"), read(zembrel.folder / "one.tif"))


@pytest.mark.parametrize("verb", ["mosaic", "tile", "quilt"])
def test_photos_meet_without_a_seam_in_every_verb_that_joins(zembrel: Program, verb: str) -> None:
    cells, valid = ground("uint8")
    cells = np.stack([cells, cells[::-1], cells[:, ::-1]])
    save(zembrel.folder / "whole.tif", raster(cells, valid))
    cut(zembrel.folder, cells, valid, (50,), 3)
    zembrel("reproject", "whole.tif", "--crs", "EPSG:3857", "--out", "one.tif")
    cutting = ("--split", "1x1", "--out", "two/") if verb == "tile" else ("--out", "two/a.tif")
    if verb == "quilt":
        said = zembrel("mosaic", "sheets/", "--onto", "one.tif", "--out", "q.quilt.toml").err
        assert "4 sheets share a lattice and are joined first" in said
        zembrel("convert", "q.quilt.toml", *cutting)
    else:
        zembrel(verb, "sheets/", "--onto", "one.tif", *cutting)
    (made,) = (zembrel.folder / "two").glob("*.tif")
    np.testing.assert_array_equal(read(made), read(zembrel.folder / "one.tif"))


@pytest.mark.parametrize("rule", ["first", "last", "mean", "feather:12", "divide", "min", "max"])
@pytest.mark.parametrize("method", ["bilinear", "cubic", "mean"])
@pytest.mark.parametrize("quilt", depth.some([False, True], [True]))
def test_sheets_of_unlike_lattices_know_their_neighbours(
    zembrel: Program, monkeypatch: pytest.MonkeyPatch, rule: str, method: str, quilt: bool
) -> None:
    """A slope of 30 m a cell: a kernel that is cut at a border would miss it by metres."""
    for name, cell, left, columns in (("a", 10.0, 730_000.0, 50), ("b", 9.5, 730_382.5, 60)):
        x = left + cell * (np.arange(columns) + 0.5)
        plane = np.broadcast_to(3 * (x - 730_000), (60, columns)).astype(np.float32)
        save(zembrel.folder / f"{name}.tif", raster(plane, where=frame(columns, 60, cell, left)))
    monkeypatch.chdir(zembrel.folder)
    area = ["--within", "730100,5099600,730800,5099900", "--cell", "8"]
    words = ["mosaic", "a.tif", "b.tif", *area, "--method", method, "--overlap", rule, "-q", "--out"]
    assert not guarded([*words, "m.quilt.toml" if quilt else "m.tif"])
    assert not quilt or not guarded(["convert", "m.quilt.toml", "--out", "m.tif", "-q"])
    found = read(zembrel.folder / "m.tif")
    columns = found.shape[1]
    with tifffile.TiffFile(zembrel.folder / "m.tif") as file:
        west = file.pages[0].tags[33922].value[3]
    due = 3 * (west + 8 * (np.arange(columns) + 0.5) - 730_000)
    assert np.isfinite(found).all() and np.abs(found - due).max() < (0.01 if method != "mean" else 12)
