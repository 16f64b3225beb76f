"""What lies beside an image and says where it is; legends from text; scaled values; quilts."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import open_raster
from zembrel.formats.blockcache import BlockCache
from zembrel.formats.legendfile import read_legend
from zembrel.geodesy.crs import same
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import write_crs
from zembrel.grid.frame import Affine
from zembrel.raster.legend import Legend, LegendEntry

BOX = """<kml xmlns="http://www.opengis.net/kml/2.2"><Document><GroundOverlay><Icon><href>files/m.png</href></Icon>
<LatLonBox><north>46.2</north><south>46.0</south><east>-23.7</east><west>-24.0</west>{turn}</LatLonBox></GroundOverlay></Document></kml>"""
QUAD = """<kml xmlns:gx="http://www.google.com/kml/ext/2.2"><GroundOverlay><Icon><href>m.png</href></Icon><gx:LatLonQuad>
<coordinates>-24,46 -23.7,46.01 -23.69,{north} -23.99,46.2</coordinates></gx:LatLonQuad></GroundOverlay></kml>"""


@pytest.fixture
def image(tmp_path: Path) -> Path:
    """A picture of 30 columns and 20 rows."""
    return save(tmp_path / "m.png", raster(random_cells(3, 20, 30), where=frame(30, 20)))


@pytest.mark.parametrize("name", ["m.pgw", "m.PGW", "m.pngw", "m.png.pgw", "m.wld", "m.png.wld"])
@pytest.mark.parametrize("sign", [".", ","])
def test_world_files_of_all_spellings_are_found(image: Path, name: str, sign: str) -> None:
    text = "2.5\n0.0\n0.0\n-2.5\n101.25\n198.75\n".replace(".", sign)
    (image.parent / name).write_text(text)
    assert open_raster(image).frame.affine == Affine(100.0, 200.0, 2.5, -2.5)


def test_overlays_in_kml_place_a_picture(image: Path) -> None:
    beside = image.with_suffix(".kml")
    beside.write_text(BOX.format(turn=""))
    found = open_raster(image).frame
    np.testing.assert_allclose(found.bounds, (-24.0, 46.0, -23.7, 46.2), atol=1e-12)
    assert same(found.crs, by_code(4326))
    beside.write_text(BOX.format(turn="<rotation>30</rotation>"))
    turned = open_raster(image).frame
    middle = turned.affine.at(15.0, 10.0)
    np.testing.assert_allclose(middle, (-23.85, 46.1), atol=1e-12)
    # the upper edge points 30 degrees north of east on the ground, and is as long as before
    (x, y), (u, v) = turned.affine.at(0.0, 0.0), turned.affine.at(30.0, 0.0)
    east, north = (u - x) * math.cos(math.radians(46.1)), v - y
    assert math.degrees(math.atan2(north, east)) == pytest.approx(30, abs=1e-9)
    assert math.hypot(east, north) == pytest.approx(0.3 * math.cos(math.radians(46.1)), rel=1e-9)
    beside.write_text(QUAD.format(north="46.21"))
    quad = open_raster(image).frame.affine
    np.testing.assert_allclose(
        (quad.at(0.0, 0.0), quad.at(30.0, 20.0)), ((-23.99, 46.2), (-23.7, 46.01)), atol=1e-12
    )
    for text in (QUAD.format(north="46.3"), BOX.format(turn="").replace("46.2", "45"), "<kml"):
        beside.write_text(text)
        with pytest.raises(InputError):
            open_raster(image)
    beside.write_text(BOX.format(turn="").replace("m.png", "other.png"))
    assert open_raster(image).frame.crs is None


def test_tie_points_beside_place_a_picture_and_say_how_well(image: Path) -> None:
    lines = [
        "column,row,x,y",
        *(f"{c},{r},{100 + 2 * c + r},{500 - 2 * r}" for c, r in ((0, 0), (30, 0), (0, 20))),
    ]
    image.with_name("m.ties.csv").write_text("\n".join([*lines, "30,20,181,460"]))
    image.with_suffix(".prj").write_text(write_crs(by_code(32626)))
    read = open_raster(image)
    a = read.frame.affine
    np.testing.assert_allclose(a.at(30.0, 20.0), (180.75, 460.0), atol=1e-9)
    assert same(read.frame.crs, by_code(32626))
    assert "placed by 4 tie points" in read.remarks[0]  # type: ignore[attr-defined]


def test_a_disagreement_is_said_with_what_was_taken(image: Path) -> None:
    program = Program(image.parent)
    image.with_suffix(".kml").write_text(BOX.format(turn=""))
    image.with_suffix(".pgw").write_text("0.01 0 0 -0.01 -23.995 46.195")
    image.with_suffix(".prj").write_text(write_crs(by_code(4326)))
    assert "note" not in program("describe", "m.png").out
    image.with_suffix(".pgw").write_text("0.01 0 0 -0.01 -23.945 46.195")
    note = "placed by m.pgw; m.kml places it 5.0 cells away"
    assert note in program("describe", "m.png").out
    assert note in program("convert", "m.png", "--out", "m.tif").err
    (image.parent / "m.tfw").write_text("0.01 0 0 -0.01 -23.845 46.195")
    assert "placed by itself; m.tfw places it 10.0 cells away" in program("describe", "m.tif").out


def test_what_is_missing_is_said_with_its_remedy(tmp_path: Path) -> None:
    np.save(tmp_path / "g.npy", np.ones((5, 6)))
    said = Program(tmp_path)("describe", "g.npy").out
    assert "--from-crs" in said and "label" in said and "--from-nodata" in said


@pytest.mark.parametrize(
    "text",
    [
        'code,colour,name\n1,#0a141e,bare rock\n4,#c86400,"heath, dry"\n',
        "# classes\n4;200;100;0;heath, dry\n1;10;20;30;bare rock\n",
        "1\t10\t20\t30\t255\tbare rock\n4\t200\t100\t0\t255\theath, dry\n",
        "1 #0a141e bare rock\n4 #c86400 heath, dry\n".replace(",", ","),
        "1 10 20 30 255 bare rock\n4 200 100 0 255 heath dry\n",
    ],
)
def test_legends_are_read_from_plain_text(tmp_path: Path, text: str) -> None:
    path = tmp_path / "l.csv"
    path.write_text(text.replace("heath, dry", "heath dry") if text.startswith("1 #") else text)
    found = read_legend(path)
    names = [entry.name.replace(",", "") for entry in found.entries]
    assert names == ["bare rock", "heath dry"]
    assert [entry[::2] for entry in found.entries] == [(1, (10, 20, 30)), (4, (200, 100, 0))]


@pytest.mark.parametrize(
    "text", ["", "1,red,rock\n", "1,#000000,a\n1,#000001,b\n", "code,colour\nx,#000000,a\n"]
)
def test_legends_that_are_none_are_refused(tmp_path: Path, text: str) -> None:
    (tmp_path / "l.txt").write_text(text)
    with pytest.raises(InputError):
        read_legend(tmp_path / "l.txt")


@pytest.mark.parametrize(
    "kind, low, high", [("int16", -420.0, 1834.5), ("uint16", 0.3, 763.5), ("int32", -1.0, 1.0)]
)
def test_scaled_values_keep_to_the_error_that_is_told(
    tmp_path: Path, kind: str, low: float, high: float
) -> None:
    values = np.random.default_rng(1).uniform(low, high, (50, 60)).astype(np.float64)
    valid = random_cells(50, 60, seed=2) > 30
    save(tmp_path / "v.tif", raster(values, valid, unit="m"))
    program = Program(tmp_path)
    for name in ("s.tif", "s.nc"):
        receipt = program(
            "convert", "v.tif", "--scaled", "auto", "--type", kind, "--out", name, "--json"
        ).json
        told = next(item["error"] for item in receipt["chose"] if item["fact"] == "largest_error")
        held = open_raster(tmp_path / name)
        band, block = held.bands[0], held.cells(held.frame.pane)
        assert band.type == kind and band.scale > 0
        off = np.abs(block.cells[0] * band.scale + band.offset - values)[valid]
        np.testing.assert_array_equal(block.valid_of(0), valid)
        assert off.max() == pytest.approx(told, rel=1e-4) and told <= band.scale * 0.5000001
        program("convert", name, "--unscaled", "--out", "u.tif", "--replace")
        back = open_raster(tmp_path / "u.tif").cells(held.frame.pane)
        np.testing.assert_allclose(back.cells[0][valid], values[valid], atol=told * 1.01 + 1e-4)
    assert (
        "do not fit"
        in program.refuses(4, "convert", "v.tif", "--scaled", "1e-12", "--type", kind, "--out", "x.tif")[0]
    )
    assert program.refuses(2, "convert", "v.tif", "--unscaled", "--out", "x.tif")
    assert program.refuses(2, "convert", "v.tif", "--scaled", "fine", "--out", "x.tif")


def test_a_quilt_is_the_mosaic_it_stands_for(tmp_path: Path) -> None:
    legend = Legend.of([LegendEntry(n, f"class {n}", (n, n, n)) for n in range(256)])
    for number, (left, top) in enumerate(((730_000, 5_100_000), (730_250, 5_099_800), (730_125, 5_100_100))):
        where = frame(40, 50, left=left, top=top)
        save(
            tmp_path / "in" / f"s{number}.tif",
            raster(random_cells(50, 40, seed=number), where=where, legend=legend),
        )
    program = Program(tmp_path)
    for rule in ("first", "max"):
        program("mosaic", "in", "--overlap", rule, "--out", "q.quilt.toml", "--replace")
        program("mosaic", "in", "--overlap", rule, "--out", "m.tif", "--replace")
        program("convert", "q.quilt.toml", "--out", "c.tif", "--replace")
        quilt, whole = open_raster(tmp_path / "c.tif"), open_raster(tmp_path / "m.tif")
        assert quilt.frame == whole.frame and quilt.bands[0].legend == legend
        one, other = quilt.cells(quilt.frame.pane), whole.cells(whole.frame.pane)
        np.testing.assert_array_equal(one.valid_of(0), other.valid_of(0))
        np.testing.assert_array_equal(one.values, other.values)
    assert program.refuses(4, "mosaic", "in", "--trim-collar", "--out", "z.quilt.toml")
    assert program.refuses(4, "convert", "m.tif", "--out", "z.quilt.toml")
    (tmp_path / "in" / "s1.tif").rename(tmp_path / "away.tif")
    assert "s1.tif" in program.refuses(3, "convert", "q.quilt.toml", "--out", "x.tif")[0]
    text = (tmp_path / "q.quilt.toml").read_text()
    for wrong, right in (
        ("max", "mox"),
        ("sheets", "sheet"),
        ("[frame]", "[frome]"),
        ('s0.tif", ', 's0.tif", 9999, '),
    ):
        (tmp_path / "b.quilt.toml").write_text(text.replace(wrong, right))
        assert program("describe", "b.quilt.toml", code=None).code in (2, 3), wrong


@pytest.mark.parametrize("name", ["g.nc", "g.asc", "g.parquet"])
def test_a_place_in_the_file_is_not_mended_from_beside(tmp_path: Path, name: str) -> None:
    save(tmp_path / name, raster(random_cells(9, 9, kind="float32"), where=frame(9, 9)))
    program = Program(tmp_path)
    assert "its place is in the file" in program.refuses(2, "label", name, "--shift", "5,5")[1]
    if name == "g.asc":  # its CRS is not
        program("label", name, "--crs", "EPSG:32627")
        assert same(open_raster(tmp_path / name).frame.crs, by_code(32627))


def test_a_picture_larger_than_the_budget_is_decoded_once() -> None:
    cache, made = BlockCache(budget=100), []

    def decoded() -> np.ndarray:
        made.append(1)
        return np.zeros(1000, np.uint8)

    for _ in range(5):
        cache.get("whole", decoded)
    assert len(made) == 1
