"""Points on edges: a cell, a sheet and an area have their west and north edge, and extents hold all points."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile

from points.clouds import cloud, write
from program import Program
from rasters import raster, save
from zembrel.geodesy.registry import by_code
from zembrel.points.files import open_points

# places on the lines between cells of 10 m, and off them; binary fractions and others
STEPS = {"whole": 10.0, "fractions": 0.1}


def lattice(folder: Path, step: float, name: str = "p.pts") -> np.ndarray:
    numbers = np.arange(11)
    x, y = (part.ravel() for part in np.meshgrid(730_000 + step * numbers, 5_100_000 + step * numbers))
    places = np.stack([x, y, np.arange(x.size) % 7], axis=1)
    np.savetxt(folder / name, places, fmt="%.3f")
    return places


@pytest.mark.parametrize("step", STEPS)
@pytest.mark.parametrize("stat", ["count", "sum", "median", "min"])
def test_the_extent_of_points_holds_all_of_them(zembrel: Program, step: str, stat: str) -> None:
    size = STEPS[step]
    places = lattice(zembrel.folder, size)
    said = zembrel("grid", "p.pts", "--from-crs", "EPSG:32626", "--cell", size, "--stat", stat, "--stat", "count",
                   "--out", "g.tif").err  # fmt: skip
    assert "121 of 121 points" in said
    with tifffile.TiffFile(zembrel.folder / "g.tif") as file:
        cells = np.asarray(file.pages[0].asarray()).reshape(*file.pages[0].shape)
        west, north = file.pages[0].tags[33922].value[3:5]
    counts = cells[..., -1] if cells.ndim == 3 else cells
    assert np.nansum(counts) == 121
    assert west == pytest.approx(730_000) and north == pytest.approx(5_100_000 + 10 * size)
    if stat == "sum":
        assert np.nansum(cells[..., 0]) == places[:, 2].sum()


@pytest.mark.parametrize("cutting", [("--split", "3x2"), ("--size", "40m"), ("--size", "50m")])
def test_every_point_lies_in_just_one_sheet(zembrel: Program, cutting: tuple[str, ...]) -> None:
    lattice(zembrel.folder, 10.0)
    zembrel("tile", "p.pts", "--from-crs", "EPSG:32626", *cutting, "--format", "las", "--out", "s/")
    sheets = [open_points(path) for path in (zembrel.folder / "s").glob("*.las")]
    assert sum(sheet.cloud.count or 0 for sheet in sheets) == 121 and len(sheets) > 3


def test_an_area_keeps_its_west_and_north_edge(zembrel: Program) -> None:
    lattice(zembrel.folder, 10.0)
    zembrel(
        "clip",
        "p.pts",
        "--from-crs",
        "EPSG:32626",
        "--within",
        "730020,5100030,730050,5100060",
        "--out",
        "c.pts",
    )
    kept = np.loadtxt(zembrel.folder / "c.pts")
    assert sorted(set(kept[:, 0])) == [730020, 730030, 730040] and sorted(set(kept[:, 1])) == [
        5100040,
        5100050,
        5100060,
    ]


def test_thinning_has_the_cells_of_grids(zembrel: Program) -> None:
    """Points on edges and corners: the highest of each cell is kept, of the cells that a grid fills."""
    numbers = np.arange(-6, 7)
    x, y = (part.ravel() for part in np.meshgrid(730_000 + 2.5 * numbers, 5_100_000 + 2.5 * numbers))
    z = np.random.default_rng(6).permutation(x.size)
    np.savetxt(zembrel.folder / "p.pts", np.stack([x, y, z], axis=1), fmt="%.3f")
    zembrel(
        "thin", "p.pts", "--from-crs", "EPSG:32626", "--cell", "10", "--best", "highest", "--out", "t.pts"
    )
    zembrel("grid", "p.pts", "--from-crs", "EPSG:32626", "--cell", "10", "--stat", "max", "--out", "g.tif")
    cells = tifffile.imread(zembrel.folder / "g.tif")
    kept = np.loadtxt(zembrel.folder / "t.pts")
    assert sorted(kept[:, 2].tolist()) == sorted(cells[np.isfinite(cells)].tolist())
    homes = {(np.floor(a / 10), np.ceil(b / 10)) for a, b in zip(x, y, strict=True)}  # west and north edges
    assert len(kept) == len(homes) == np.isfinite(cells).sum()


@pytest.mark.parametrize(
    "places", [[(0, 0)], [(0, 0)] * 3, [(0, 0), (0, 10), (0, 20)]], ids=["one", "alike", "line"]
)
def test_points_without_ground_have_no_density_and_can_be_gridded(
    zembrel: Program, places: list[tuple[int, int]]
) -> None:
    rows = [(730_000 + x, 5_100_000 + y, 5) for x, y in places]
    np.savetxt(zembrel.folder / "p.pts", rows, fmt="%d")
    said = zembrel("describe", "p.pts", "--from-crs", "EPSG:32626", "--stats").out
    assert "density" not in said and "voids" not in said and f"points       {len(places)}" in said
    zembrel("grid", "p.pts", "--from-crs", "EPSG:32626", "--cell", "1", "--stat", "count", "--out", "g.tif")
    cells = np.atleast_2d(tifffile.imread(zembrel.folder / "g.tif"))
    assert cells.sum() == len(places) and cells.max() == (3 if len(set(places)) < len(places) else 1)


def test_features_on_the_edges_are_counted_too(zembrel: Program) -> None:
    places = lattice(zembrel.folder, 10.0)
    rows = ["x,y,name", *(f"{x},{y},a" for x, y, _ in places)]
    (zembrel.folder / "f.csv").write_text("\n".join(rows) + "\n")
    zembrel("tally", "f.csv", "--from-crs", "EPSG:32626", "--cell", "10", "--stat", "count", "--out", "t.tif")
    assert tifffile.imread(zembrel.folder / "t.tif").sum() == 121


@pytest.mark.parametrize("ending", ["las", "laz", "ply", "pts"])
def test_a_prj_beside_points_and_any_layer_tell_the_crs(zembrel: Program, ending: str) -> None:
    lattice(zembrel.folder, 10.0)
    zembrel("convert", "p.pts", "--out", f"q.{ending}")
    save(zembrel.folder / "r.tif", raster(np.zeros((4, 4), np.uint8)))
    for layer in ("r.tif", "EPSG:32626"):
        zembrel("convert", f"q.{ending}", "--from-crs", layer, "--out", "t.las", "--replace")
        crs = open_points(zembrel.folder / "t.las").cloud.crs
        assert crs is not None and crs.code == 32626
    zembrel("convert", "r.tif", "--out", "r.png")  # writes r.prj
    (zembrel.folder / "r.prj").rename(zembrel.folder / "q.prj")
    assert "EPSG:32626" in zembrel("describe", f"q.{ending}").out
    zembrel.refuses(3, "convert", "r.tif", "--from-crs", "p.pts", "--out", "x.tif")


@pytest.mark.parametrize("words", [("mosaic", "--out", "m.las"), ("grid", "--cell", "10", "--out", "m.tif"),
                                   ("mosaic", "--crs", "EPSG:4326", "--out", "m.las")])  # fmt: skip
@pytest.mark.parametrize("code", [32650, 32756])
def test_a_cloud_on_another_continent_is_named(zembrel: Program, words: tuple[str, ...], code: int) -> None:
    write(zembrel.folder / "a.las", cloud(50))
    write(zembrel.folder / "b.las", cloud(50))
    write(zembrel.folder / "odd.las", cloud(50), crs=by_code(code))
    told = zembrel.refuses(3, words[0], "a.las", "odd.las", "b.las", *words[1:])
    assert "odd.las lies far from a.las" in told[0] and f"EPSG:{code}" in told[1] and "EPSG:32626" in told[1]
