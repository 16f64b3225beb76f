"""Messages lead on: what they advise can be typed, and is not advised again in its turn."""

from __future__ import annotations

import json

import numpy as np
import pytest
import tifffile
from PIL import Image

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry


@pytest.fixture
def dem(zembrel: Program) -> Program:
    save(zembrel.folder / "dem.tif", raster(random_cells(40, 40, kind="float32")))
    return zembrel


def test_a_swapped_area_is_advised_once(dem: Program) -> None:
    area = "10,50,20,40"
    for _ in range(2):
        said = dem("clip", "dem.tif", "--within", area, "--out", "c.tif", code=None).err
        if "looks swapped" not in said:
            break
        area = said.rpartition("write ")[2].strip()
    assert area == "10,40,20,50" and "looks swapped" not in said


@pytest.mark.parametrize(
    "area",
    ["45.9,-24.2,46.1,-23.9@EPSG:4326", "square:5099800,730200,50", "circle:46.02,-24.02,5km@EPSG:4326"],
)
def test_latitude_first_gets_the_hint(dem: Program, area: str) -> None:
    _, _, remedy = dem.refuses(3, "clip", "dem.tif", "--within", area, "--out", "c.tif")
    assert remedy.startswith("x comes first: did you mean ")
    dem("clip", "dem.tif", "--within", remedy.rpartition(" ")[2].rstrip("?"), "--out", "c.tif")


def test_other_advice(dem: Program) -> None:
    assert (
        dem.refuses(3, "reproject", "dem.tif", "--crs", "4326", "--out", "x.tif")[2]
        == "did you mean EPSG:4326?"
    )
    assert "features" in dem.refuses(2, "draw", "dem.tif", "--classes", "natural:4", "--out", "x.png")[0]
    (dem.folder / "p.laz").write_bytes(b"LASF" + bytes(400))
    assert "TIFF, GeoTIFF and features" in dem.refuses(3, "check", "p.laz")[1]


def test_a_table_beside_sheets_is_no_sheet(dem: Program) -> None:
    (dem.folder / "in").mkdir()
    (dem.folder / "dem.tif").rename(dem.folder / "in/a.tif")
    (dem.folder / "in/a-ties.csv").write_text("column,row,x,y\n1,2,3,4\n")
    assert "in/a.tif -> m.tif" in dem("mosaic", "in/", "--out", "m.tif").err


def test_infinite_values_raise_no_warning(zembrel: Program) -> None:
    cells = np.array([[1, np.inf], [-np.inf, 2]], np.float32)
    save(zembrel.folder / "i.tif", raster(cells))
    said = zembrel("describe", "i.tif", "--stats")
    assert "inf" in said.out and said.err == ""


def test_a_page_of_one_bit_is_a_picture(zembrel: Program) -> None:
    page = random_cells(30, 40) > 128
    Image.fromarray(page).save(zembrel.folder / "b.tif")
    zembrel("convert", "b.tif", "--out", "b.png")
    np.testing.assert_array_equal(np.asarray(Image.open(zembrel.folder / "b.png").convert("1")), page)


def test_check_lists_the_faults_of_features_and_makes_a_layer_of_them(zembrel: Program) -> None:
    shapes = [[[0, 0], [10, 10], [10, 0], [0, 10], [0, 0]], [[20, 20], [30, 20], [30, 30], [20, 20]]]
    features = [
        {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [s]}}
        for s in shapes
    ]
    (zembrel.folder / "f.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    said = zembrel("check", "f.geojson", "--out", "faults.geojson", code=1)
    assert "feature 1" in said.out and "5,5" in said.out and "feature 2" not in said.out
    made = json.loads((zembrel.folder / "faults.geojson").read_text())
    assert [f["geometry"]["coordinates"] for f in made["features"]] == [[5, 5]]
    assert made["features"][0]["properties"]["kind"] == "Polygon"


def test_classes_tell_their_share_and_their_ground(zembrel: Program) -> None:
    """Shares are of valid cells; in degrees a cell's ground shrinks with the cosine of latitude."""
    codes = np.repeat(np.array([1, 2], np.uint8), 50).reshape(100, 1) * np.ones((1, 40), np.uint8)
    legend = Legend.of([LegendEntry(1, "heath", (1, 2, 3)), LegendEntry(2, "wood", (4, 5, 6))])
    valid = np.ones((100, 40), bool)
    valid[:10] = False
    where = Frame(by_code(4326), Affine(-24.0, 47.0, 0.01, -0.01), 40, 100)
    save(zembrel.folder / "c.tif", raster(codes, valid, where, legend=legend))
    said = zembrel("describe", "c.tif", "--stats", "--json").json["layers"][0]["bands"][0]["statistics"]
    assert said["classes"] == {"1": 1600, "2": 2000}
    rows = 47 - 0.01 * (np.arange(100) + 0.5)
    a, e2 = 6378137.0, 0.00669437999014
    w2 = 1 - e2 * np.sin(np.radians(rows)) ** 2
    cell = np.radians(0.01) ** 2 * a * a * (1 - e2) / w2**2 * np.cos(np.radians(rows))
    np.testing.assert_allclose(said["hectares"]["1"], 40 * cell[10:50].sum() / 1e4, rtol=1e-6)
    assert "55.56 % of the valid ones" in zembrel("describe", "c.tif", "--stats").out
    assert tifffile.imread(zembrel.folder / "c.tif", key=0).shape == (100, 40)


@pytest.mark.parametrize("kind", ["tif", "geojson", "pts"])
def test_inputs_outside_the_area_are_left_out_and_named(zembrel: Program, kind: str) -> None:
    for n, west in enumerate((730_000, 740_000, 750_000)):
        name = f"in/s{n}.{kind}"
        (zembrel.folder / "in").mkdir(exist_ok=True)
        if kind == "tif":
            save(zembrel.folder / name, raster(random_cells(20, 20), where=frame(20, 20, left=west)))
        elif kind == "pts":
            np.savetxt(
                zembrel.folder / name, [[west + 10, 5_099_990, 1], [west + 50, 5_099_950, 2]], fmt="%.1f"
            )
        else:
            point = {"type": "Point", "coordinates": [west + 50, 5_099_950]}
            features = [{"type": "Feature", "properties": {}, "geometry": point}]
            (zembrel.folder / name).write_text(
                json.dumps({"type": "FeatureCollection", "features": features})
            )
    area = ("--within", "740000,5099900,740100,5100000")
    said = zembrel("clip", "in/", "--from-crs", "EPSG:32626", "--force-crs", *area, "--out", "cut/").err
    assert f"2 inputs outside the area left out: s0.{kind}, s2.{kind}" in said
    assert [p.name for p in (zembrel.folder / "cut").iterdir() if p.suffix != ".prj"] == [f"s1.{kind}"]
    area = ("--within", "840000,5099900,840100,5100000")
    refused = zembrel.refuses(
        3, "clip", "in/", "--from-crs", "EPSG:32626", "--force-crs", *area, "--out", "none/"
    )
    assert refused[0] == "none of the 3 inputs has anything inside the area"
    broken = zembrel.folder / f"in/s1.{kind}"
    broken.write_bytes(b"740010 5099990 1\nno point\n" if kind == "pts" else broken.read_bytes()[:-40])
    options = ("--from-crs", "EPSG:32626", "--force-crs", "--keep-going")
    area = ("--within", "740000,5099900,740100,5100000")
    what = zembrel.refuses(3, "clip", "in/", *options, *area, "--out", "none/")[0]
    assert what == "none of the 3 inputs could be done"


@pytest.mark.parametrize("verb", [("convert",), ("clip", "--within", "730000,5099900,730080,5100000")])
def test_keep_going_covers_what_cannot_be_opened(zembrel: Program, verb: tuple[str, ...]) -> None:
    for name in ("a", "c"):
        save(zembrel.folder / f"in/{name}.tif", raster(random_cells(8, 9)))
    (zembrel.folder / "in/b.tif").write_bytes(b"")
    zembrel.refuses(3, *verb, "in", "--out", "none/")
    said = zembrel(*verb, "in", "--out", "out/", "--keep-going", code=7).err
    assert {p.name for p in (zembrel.folder / "out").iterdir()} == {"a.tif", "c.tif"} and "in/b.tif" in said
    for name in ("a", "c"):
        (zembrel.folder / f"in/{name}.tif").write_bytes(b"II*")
    what, _, _ = zembrel.refuses(3, *verb, "in", "--out", "all/", "--keep-going")
    assert "none of the 3 inputs" in what
