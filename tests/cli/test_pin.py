"""pin: a picture taken through a known function comes back to where it was taken."""

from __future__ import annotations

import csv
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image
from scipy import ndimage

from program import Program
from zembrel.formats import open_raster
from zembrel.grid.pinning import MODELS, Ties, judged, pinned

NUMBERS = np.random.default_rng(11)
GROUND = ndimage.gaussian_filter(NUMBERS.normal(0, 1, (300, 300)), 4) * 900 + 120
WEST, NORTH, CELL = 730_000.0, 5_100_000.0, 10.0
Way = Callable[[Any, Any], tuple[Any, Any]]


def turned(x: Any, y: Any) -> tuple[Any, Any]:
    """Ground to picture: turned by 12 degrees, shrunk a little."""
    u, v = (x - WEST) / CELL, (NORTH - y) / CELL
    return 40 + 0.9 * (0.978 * u + 0.208 * v), 90 + 0.9 * (-0.208 * u + 0.978 * v)


def bent(x: Any, y: Any) -> tuple[Any, Any]:
    """And bent, as paper is."""
    column, row = turned(x, y)
    s, t = (x - WEST) / 3000 - 0.5, (NORTH - y) / 3000 - 0.5
    return column + 9 * s * t + 6 * s * s, row - 8 * t * t


@cache
def picture(way: Way) -> Any:
    """What a scanner would see, 400 x 400: the ground at the place that the way takes to each cell."""
    u, v = np.meshgrid(np.linspace(-60, 360, 85), np.linspace(-60, 360, 85))
    columns, rows = way(WEST + u * CELL, NORTH - v * CELL)
    from scipy.interpolate import griddata

    col, row = np.meshgrid(np.arange(400) + 0.5, np.arange(400) + 0.5)
    places = griddata((columns.ravel(), rows.ravel()), np.column_stack([u.ravel(), v.ravel()]), (col, row))
    seen = ndimage.map_coordinates(GROUND, [places[..., 1] - 0.5, places[..., 0] - 0.5], order=1, cval=0)
    return np.clip(seen, 0, 255).astype(np.uint8)


def ties(way: Way, count: int, seed: int = 1) -> Ties:
    numbers = np.random.default_rng(seed)
    places = np.column_stack(
        [numbers.uniform(WEST, WEST + 3000, count), numbers.uniform(NORTH - 3000, NORTH, count)]
    )
    return Ties(places, np.column_stack(way(*places.T)), tuple(f"p{n}" for n in range(1, count + 1)))


def write_ties(path: Path, points: Ties) -> None:
    with path.open("w", newline="") as file:
        table = csv.writer(file)
        table.writerow(["name", "column", "row", "x", "y"])
        for name, (column, row), (x, y) in zip(points.names, points.picture, points.ground, strict=True):
            table.writerow([name, repr(float(column)), repr(float(row)), repr(float(x)), repr(float(y))])


@pytest.mark.parametrize("model", MODELS)
def test_a_function_of_the_model_is_found_exactly(model: str) -> None:
    way = turned if model == "affine" else bent
    points = ties(way, 14)
    fitted, fresh = pinned(points, model), ties(way, 50, seed=2)
    column, row = fitted(fresh.ground[:, 0], fresh.ground[:, 1])
    gap = np.hypot(column - fresh.picture[:, 0], row - fresh.picture[:, 1])
    assert gap.max() < (4 if model == "spline" else 1e-6)
    if model == "spline":
        column, row = fitted(points.ground[:, 0], points.ground[:, 1])
        np.testing.assert_allclose(np.column_stack([column, row]), points.picture, atol=1e-6)


@pytest.mark.parametrize("model", MODELS)
@pytest.mark.parametrize("bad", [0, 7, 13])
def test_a_bad_point_is_named_and_no_good_one(model: str, bad: int) -> None:
    way = turned if model == "affine" else bent
    points = ties(way, 26, seed=bad + 3)
    points = points._replace(
        picture=points.picture + np.random.default_rng(bad).normal(0, 0.2, points.picture.shape)
    )
    if model != "spline":
        assert judged(points, model).suspect is None
    points.picture[bad] += (40, -25)
    assert judged(points, model).suspect == bad


@pytest.mark.parametrize(
    "way, model, count", [(turned, None, 6), (bent, "polynomial2", 12), (bent, None, 25)]
)
def test_a_scan_lands_where_it_was_taken(tmp_path: Path, way: Way, model: str | None, count: int) -> None:
    program = Program(tmp_path)
    Image.fromarray(picture(way)).save(tmp_path / "scan.png")
    write_ties(tmp_path / "ties.csv", ties(way, count))
    words = ["--model", model] if model else []
    said = program("pin", "scan.png", "--ties", "ties.csv", "--crs", "EPSG:32626", "--cell", "10m", *words,
                   "--table", "fit.csv", "--out", "map.tif")  # fmt: skip
    assert f"through {count} points" in said.err and "residual" in said.out
    source = open_raster(tmp_path / "map.tif")
    assert source.frame.crs is not None and source.frame.crs.code == 32626
    pane = source.frame.pane_of(WEST + 300, NORTH - 2700, WEST + 2700, NORTH - 300)
    block = source.cells(pane)
    west, _, _, north = source.frame.bounds_of(pane)
    top, left = round((NORTH - north) / CELL), round((west - WEST) / CELL)
    truth = GROUND[top : top + pane.rows, left : left + pane.columns]
    assert block.valid_of(0).all()
    gap = block.cells[0].astype(float) - np.clip(truth, 0, 255)
    assert np.sqrt((gap**2).mean()) < (3 if count == 25 else 2)
    with (tmp_path / "fit.csv").open() as file:
        assert len(list(csv.DictReader(file))) == count


def test_the_files_own_tie_points_are_used(tmp_path: Path) -> None:
    points = ties(bent, 12)
    rows = [(c, r, 0, x, y, 0) for (c, r), (x, y) in zip(points.picture, points.ground, strict=True)]
    keys = (34735, "H", 16, (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32626), True)
    tags = [(33922, "d", 6 * len(rows), tuple(np.ravel(rows)), True), keys]
    tifffile.imwrite(tmp_path / "own.tif", picture(bent), extratags=tags)
    said = Program(tmp_path)("pin", "own.tif", "--crs", "EPSG:32626", "--out", "map.tif", "--json").json
    assert len(said["points"]) == 12 and max(point["residual_cells"] for point in said["points"]) < 1


@pytest.mark.parametrize(
    "text, code, what",
    [
        ("column,row,x,y\n1,2,3,4\n2,3,4,5\n", 3, "too few for affine"),
        ("column,row,x,y\n1,2,3,4\n2,3,4,5\n3,4,5,6\n4,5,6,7\n", 3, "lie on a line"),
        ("col,row,x,y\n1,2,3,4\n", 3, "no list of tie points"),
        ("column,row,x,y\n1,2,3,4\n2,3,four,5\n", 3, "line 3"),
        ("column,row,x,y\n1,2,3,nan\n", 3, "line 2"),
        ("", 3, "no list of tie points"),
    ],
)
def test_lists_that_pin_nothing(tmp_path: Path, text: str, code: int, what: str) -> None:
    program = Program(tmp_path)
    Image.fromarray(np.zeros((50, 50), np.uint8)).save(tmp_path / "scan.png")
    (tmp_path / "ties.csv").write_text(text)
    assert (
        what
        in program.refuses(
            code, "pin", "scan.png", "--ties", "ties.csv", "--crs", "EPSG:32626", "--out", "m.tif"
        )[0]
    )


def test_exchanged_coordinates_are_pointed_out_and_remedies_can_be_followed(tmp_path: Path) -> None:
    program = Program(tmp_path)
    Image.fromarray(picture(turned)).save(tmp_path / "scan.png")
    good = ties(turned, 6)
    write_ties(tmp_path / "ties.csv", good)
    words = "pin", "scan.png", "--crs", "EPSG:32626", "--cell", "10m", "--out", "m.tif", "--replace", "--ties"
    assert "exchanged" not in program(*words, "ties.csv").err
    rows = (tmp_path / "ties.csv").read_text().splitlines()
    names = rows[0].split(",")
    x, y = names.index("x"), names.index("y")
    names[x], names[y] = names[y], names[x]
    (tmp_path / "swapped.csv").write_text("\n".join([",".join(names), *rows[1:]]) + "\n")
    told = program(*words, "swapped.csv").err
    assert "outside the area of use" in told and "x and y exchanged" in told
    assert "residual (cells)" in program(*words, "ties.csv").out
    (tmp_path / "two.csv").write_text("\n".join(rows[:3]) + "\n")
    assert "affine" not in program.refuses(3, *words, "two.csv")[2]
    (tmp_path / "four.csv").write_text("\n".join(rows[:5]) + "\n")
    assert "--model affine" in program.refuses(3, *words, "four.csv", "--model", "polynomial2")[2]


def test_points_that_the_others_do_not_determine_are_not_judged(tmp_path: Path) -> None:
    """Without the one beside the line, the others lie on it: nothing is told of that one."""
    program = Program(tmp_path)
    Image.fromarray(picture(turned)).save(tmp_path / "scan.png")
    places = [(50, 50), (100, 100.001), (150, 149.999), (200, 200), (20, 180)]
    rows = [f"{c},{r},{730_000 + 10 * c},{5_100_000 - 10 * r}" for c, r in places]
    (tmp_path / "ties.csv").write_text("column,row,x,y\n" + "\n".join(rows) + "\n")
    said = program(
        "pin", "scan.png", "--ties", "ties.csv", "--crs", "EPSG:32626", "--out", "m.tif", "--json"
    ).json
    left_out = [point["left_out_cells"] for point in said["points"]]
    assert left_out[-1] is None and all(value is not None and value < 0.01 for value in left_out[:-1])


def test_what_is_missing_is_said(tmp_path: Path) -> None:
    program = Program(tmp_path)
    Image.fromarray(picture(turned)).save(tmp_path / "scan.png")
    write_ties(tmp_path / "ties.csv", ties(turned, 6))
    assert "which CRS" in program.refuses(2, "pin", "scan.png", "--ties", "ties.csv", "--out", "m.tif")[0]
    assert (
        "no tie points" in program.refuses(2, "pin", "scan.png", "--crs", "EPSG:32626", "--out", "m.tif")[0]
    )
    wrong = ("pin", "scan.png", "--ties", "ties.csv", "--crs", "EPSG:4326", "--out", "m.tif")
    assert "latitudes" in program.refuses(2, *wrong)[1]
    words = (
        "pin",
        "scan.png",
        "--ties",
        "ties.csv",
        "--crs",
        "EPSG:32626",
        "--model",
        "splin",
        "--out",
        "m.tif",
    )
    assert program.refuses(2, *words)[2] == "did you mean spline?"
