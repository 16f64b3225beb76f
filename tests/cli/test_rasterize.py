"""Features onto cells and cells to features, by the program: what is made, what is refused and why."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

from program import Program
from rasters import raster, save
from zembrel.demo.scenes import HOME, LandCover
from zembrel.features.files import read_features
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame, snapped

CRS = {"type": "name", "properties": {"name": "EPSG:32626"}}


def square(left: float, top: float, side: float, **facts: object) -> dict[str, object]:
    corners = [(left, top), (left, top - side), (left + side, top - side), (left + side, top), (left, top)]
    return {"type": "Feature", "properties": facts, "geometry": {"type": "Polygon", "coordinates": [corners]}}


@pytest.fixture
def program(tmp_path: Path) -> Program:
    found = Program(tmp_path)
    bowtie = [(60, 100), (90, 70), (90, 100), (60, 70), (60, 100)]
    features = [
        square(0, 100, 50, kind="heath", depth=3, rank=2),
        square(30, 80, 50, kind="wood", depth=7.5, rank=1),
    ]
    faulty = {
        "type": "Feature",
        "properties": {"kind": "bog", "depth": 300},
        "geometry": {"type": "Polygon", "coordinates": [bowtie]},
    }
    line = {
        "type": "Feature",
        "properties": {"id": 1},
        "geometry": {"type": "LineString", "coordinates": [(5, 50), (95, 50)]},
    }
    for name, held in (("a", features), ("f", [*features, faulty]), ("l", [line]), ("e", [])):
        text = {"type": "FeatureCollection", "crs": CRS, "features": held}
        (tmp_path / f"{name}.geojson").write_text(json.dumps(text))
    (tmp_path / "g.frame.toml").write_text(
        'crs = "EPSG:32626"\nleft = 0\ntop = 100\ncell = [10, 10]\ncolumns = 10\nrows = 10\n'
    )
    return found


def drawn(program: Program, *words: str) -> tuple[np.ndarray, str]:
    """Cells, NaN where nothing is, and their type."""
    program("rasterize", *words, "--out", "o.tif", "--replace")
    found = open_raster(program.folder / "o.tif")
    block = found.cells(found.frame.pane)
    return np.where(block.valid_of(0), block.cells[0].astype(float), np.nan), found.bands[0].type


def test_values_fields_words_and_ranks(program: Program) -> None:
    onto = ("a.geojson", "--onto", "g.frame.toml")
    cells, kind = drawn(program, *onto)
    assert kind == "uint8" and np.nansum(cells) == 25 + 25 - 6 and np.isnan(cells[9, 9])
    cells, kind = drawn(program, *onto, "--field", "depth")
    assert kind == "float32" and cells[3, 4] == 7.5
    cells, _ = drawn(program, *onto, "--field", "depth", "--rank", "rank")
    assert cells[3, 4] == 3
    cells, _ = drawn(program, *onto, "--field", "depth", "--overlap", "mean", "--fill", "-1")
    assert cells[3, 4] == 5.25 and cells[9, 9] == -1
    cells, kind = drawn(program, *onto, "--count")
    assert kind == "uint16" and cells.sum() == 50
    drawn(program, *onto, "--field", "kind")
    legend = open_raster(program.folder / "o.tif").bands[0].legend
    assert legend is not None and [entry.name for entry in legend.entries if entry.name] == ["heath", "wood"]
    cells, _ = drawn(program, *onto, "--where", "kind = 'wood'", "--value", "9")
    assert np.nanmax(cells) == 9 and (cells == 9).sum() == 25
    cells, _ = drawn(program, "a.geojson", "--cell", "7m", "--cover")
    assert cells.sum() * 49 == pytest.approx(5000 - 20 * 30, rel=1e-6)


def test_lines_have_a_width(program: Program) -> None:
    assert (drawn(program, "l.geojson", "--onto", "g.frame.toml")[0] == 1).sum() == 10
    wide, _ = drawn(program, "l.geojson", "--onto", "g.frame.toml", "--width", "40m")
    assert (wide == 1).sum() == 4 * 10


def test_faulty_shapes_are_named_mended_or_left_out(program: Program) -> None:
    onto = ("f.geojson", "--onto", "g.frame.toml")
    said = program.refuses(3, "rasterize", *onto, "--out", "o.tif")
    assert said[0].startswith("1 of 3 features") and "feature 3: self-intersection at 75" in said[1]
    assert (drawn(program, *onto, "--skip-invalid")[0] == 1).sum() == 44
    assert (drawn(program, *onto, "--repair", "--where", "kind = 'bog'")[0] == 1).sum() > 2


@pytest.mark.parametrize(
    "words, code, said",
    [
        (["a.geojson", "--onto", "g.frame.toml", "--field", "deph"], 3, "no feature has a field 'deph'"),
        (
            ["f.geojson", "--onto", "g.frame.toml", "--repair", "--field", "depth", "--type", "uint8"],
            4,
            "uint8 cannot hold",
        ),
        (["a.geojson", "--onto", "g.frame.toml", "--count", "--cover"], 2, "a cell gets one thing"),
        (["a.geojson", "--onto", "g.frame.toml", "--overlap", "frist"], 2, "no overlap rule 'frist'"),
        (["a.geojson"], 2, "there is no frame"),
        (["e.geojson", "--onto", "g.frame.toml"], 3, "e.geojson holds no feature"),
        (["l.geojson", "--onto", "g.frame.toml", "--cover"], 3, "l.geojson holds no polygon"),
        (["a.geojson", "l.geojson", "--cell", "10m"], 2, "one file of features"),
        (["a.geojson", "--onto", "g.frame.toml", "--rank", "kind"], 3, "has kind = 'heath'"),
    ],
)
def test_what_cannot_be_drawn_is_refused(program: Program, words: list[str], code: int, said: str) -> None:
    assert said in program.refuses(code, "rasterize", *words, "--out", "o.tif")[0]


@pytest.mark.parametrize("ending", ["gpkg", "geojson"])
@pytest.mark.parametrize("way", [(), ("--diagonal",), ("--dissolve",)])
def test_the_land_cover_comes_back_from_its_polygons(
    program: Program, ending: str, way: tuple[str, ...]
) -> None:
    cover = LandCover(snapped(by_code(HOME), (730_000, 5_097_000, 732_000, 5_099_000), (10.0, 10.0)))
    save(program.folder / "c.tif", cover)
    receipt = program("polygonize", "c.tif", *way, "--out", f"c.{ending}", "--json").json
    assert receipt["cells"] == 40_000 and receipt["features"] <= receipt["regions"]
    table = read_features(program.folder / f"c.{ending}")
    assert sum(row["cells"] for row in table.rows()) == 40_000
    assert sum(row["area"] for row in table.rows()) == pytest.approx(4e6, rel=1.5e-3)  # the scale of UTM
    assert {row["name"] for row in table.rows()} <= {
        "open water",
        "sand and shingle",
        "grassland",
        "heath",
        "wood",
        "bare rock",
        "",
    }
    program("rasterize", f"c.{ending}", "--onto", "c.tif", "--field", "value", "--out", "back.tif")
    one, other = open_raster(program.folder / "c.tif"), open_raster(program.folder / "back.tif")
    np.testing.assert_array_equal(one.cells(one.frame.pane).cells, other.cells(other.frame.pane).cells)


def test_areas_are_those_on_the_ground_also_in_degrees(program: Program) -> None:
    frame = Frame(by_code(4326), Affine(-24.0, 47.0, 0.1, -0.1), 10, 10)
    save(program.folder / "d.tif", raster(np.ones((10, 10), np.uint8), where=frame))
    program("polygonize", "d.tif", "--out", "d.gpkg")
    area = next(read_features(program.folder / "d.gpkg").rows())["area"]
    # a zone of the ellipsoid in closed form: b^2 / 2 (sin / (1 - e2 sin^2) + artanh(e sin) / e)
    a, flat = 6378137.0, 1 / 298.257223563
    e = math.sqrt(flat * (2 - flat))

    def zone(degrees: float) -> float:
        sine = math.sin(math.radians(degrees))
        return (a * (1 - flat)) ** 2 / 2 * (sine / (1 - (e * sine) ** 2) + math.atanh(e * sine) / e)

    assert area == pytest.approx(math.radians(1) * (zone(47) - zone(46)), rel=1e-9)


def test_floats_are_refused_with_an_estimate(program: Program) -> None:
    save(program.folder / "f.tif", raster(np.random.default_rng(1).random((30, 40), np.float32)))
    said = program.refuses(4, "polygonize", "f.tif", "--out", "f.gpkg")
    assert "about 1,200 regions" in said[1] and "--round" in said[2]
    program("polygonize", "f.tif", "--round", "--out", "f.gpkg")
    assert program.refuses(2, "polygonize", "f.tif", "--round", "--out", "f.tif2")
