"""The verbs on the demo data: each states a fact about the island."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest
import shapely
import tifffile
from PIL import Image

from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.demo import island
from zembrel.demo.data import photos, reliefs
from zembrel.demo.scenes import Photo
from zembrel.demo.shapes import coast
from zembrel.features.cover import PolygonCover
from zembrel.features.files import read_features as read_geojson
from zembrel.features.files.catalogue import FEATURE_FORMATS
from zembrel.formats import open_raster
from zembrel.formats.catalogue import FORMATS
from zembrel.formats.legendfile import read_legend
from zembrel.geodesy.registry import by_code
from zembrel.grid.framefile import read_frame
from zembrel.grid.pane import Pane
from zembrel.points.files.catalogue import POINT_FORMATS
from zembrel.raster.model import Block


@pytest.fixture
def demo(zembrel: Program, marrowick: Path) -> Program:
    """The program in a folder of links to the demo data."""
    for path in marrowick.iterdir():
        (zembrel.folder / path.name).symlink_to(path)
    return zembrel


def read(path: Path) -> Block:
    source = open_raster(path)
    return source.cells(source.frame.pane)


def test_the_data_is_the_same_every_time_and_small(marrowick: Path) -> None:
    assert sum(path.stat().st_size for path in marrowick.rglob("*") if path.is_file()) < 60_000_000
    for name, scene in list(reliefs())[:1] + list(photos())[:1]:
        folder = "dem" if name.startswith("r") else "ortho"
        pane = Pane(300, 400, 620, 700)
        stored = open_raster(marrowick / folder / f"{name}.tif").cells(pane)
        block = scene.cells(pane)
        np.testing.assert_array_equal(stored.valid_of(0), block.valid_of(0))
        np.testing.assert_array_equal(stored.cells[:, block.valid_of(0)], block.cells[:, block.valid_of(0)])


@pytest.mark.deep
def test_the_mosaic_of_two_zones_is_the_scene_it_was_sampled_from(demo: Program) -> None:
    """No seam, no collar: less than 1.5 grey levels from the analytic scene, no hole on land."""
    said = demo(
        "mosaic", "ortho", "--trim-collar", "--within", "coast.geojson", "--out", "island.tif", "--json"
    ).json
    assert (
        said["results"][0]["missing"] == 0
        and {"fact": "method", "method": "cubic", "why": "continuous colour"}.items()
        <= said["chose"][1].items()
    )
    assert (
        "no gap inside the area"
        in demo("clip", "island.tif", "--within", "coast.geojson", "--out", "land.tif").err
    )
    source = open_raster(demo.folder / "island.tif")
    land = coast().to(source.frame.crs).polygon()
    inland = PolygonCover(source.frame, land.buffer(-6)).inside(source.frame.pane)
    block = source.cells(source.frame.pane)
    assert block.valid is None
    scene = Photo(source.frame).cells(source.frame.pane)
    gaps = (block.cells.astype(int) - scene.cells)[:, inland]
    assert np.sqrt((gaps.astype(float) ** 2).mean()) < 1.5
    # a seam or collar would stand out in tiles along the sheets' borders: the worst is nearly as good
    squares = np.where(inland, ((block.cells.astype(float) - scene.cells) ** 2).mean(axis=0), 0)
    down, across = squares.shape[0] // 64, squares.shape[1] // 64
    tiles = squares[: down * 64, : across * 64].reshape(down, 64, across, 64).mean(axis=(1, 3))
    assert np.sqrt(tiles.max()) < 4


def test_clip_returns_exactly_the_sources_cells(demo: Program) -> None:
    demo("clip", "dem/r3.tif", "--within", "732501,5099002,733999,5100003", "--out", "part.tif")
    source, part = open_raster(demo.folder / "dem/r3.tif"), open_raster(demo.folder / "part.tif")
    offset = source.frame.offset_to(part.frame)
    assert offset is not None and part.frame.bounds == (732_500, 5_099_000, 734_000, 5_100_005)
    native = source.cells(part.frame.pane.moved(*offset))
    clipped = part.cells(part.frame.pane)
    np.testing.assert_array_equal(clipped.valid_of(0), native.valid_of(0))
    np.testing.assert_array_equal(clipped.cells[:, native.valid_of(0)], native.cells[:, native.valid_of(0)])


def test_clip_by_outline_outside_and_touching(demo: Program) -> None:
    counts = {}
    for name, more in (("in", []), ("touch", ["--touching"]), ("out", ["--outside"])):
        demo("clip", "landcover.tif", "--within", "coast.geojson", "--out", f"{name}.tif", *more)
        counts[name] = int(read(demo.folder / f"{name}.tif").valid_of(0).sum())
    land = read_geojson(demo.folder / "coast.geojson").to(by_code(32626)).polygon()
    assert counts["in"] * 100 == pytest.approx(land.area, rel=2e-3)
    assert counts["in"] + counts["out"] == 1040 * 800
    assert 0 < counts["touch"] - counts["in"] < 1.5 * land.length / 10


def test_areas_are_met_on_the_ground(demo: Program) -> None:
    where = demo(
        "clip", "landcover.tif", "--within", "circle:-24,46,1km@EPSG:4326", "--out", "c.tif", "--json"
    ).json
    assert where["results"][0]["valid"] * 100 == pytest.approx(np.pi * 1e6, rel=5e-3)
    demo("clip", "landcover.tif", "--within", "place:High Marrow", "--reach", "500m", "--out", "p.tif")
    assert open_raster(demo.folder / "p.tif").frame.bounds == (
        732_040,
        5_098_140,
        733_060,
        5_099_160,
    )  # 500 m on the ground are 500.1 of the grid
    demo(
        "clip",
        "landcover.tif",
        "--within",
        "coast.geojson",
        "--within-where",
        "kind = 'islet'",
        "--out",
        "i.tif",
    )
    islets = coast().where("kind = 'islet'").polygon()
    assert read(demo.folder / "i.tif").valid_of(0).sum() * 100 == pytest.approx(islets.area, rel=0.05)


def test_reprojected_neighbours_share_one_lattice(demo: Program) -> None:
    demo("reproject", "dem", "--crs", "EPSG:32627", "--out", "moved/")
    frames = [open_raster(demo.folder / "moved" / f"r{n}.tif").frame for n in range(1, 5)]
    assert all(frames[0].offset_to(other) is not None for other in frames)
    assert {f.cell for f in frames} == {(5.0, 5.0)}


def test_reprojected_relief_is_where_the_island_is(demo: Program) -> None:
    demo("reproject", "dem/r3.tif", "--crs", "EPSG:4326", "--out", "geo.tif")
    source = open_raster(demo.folder / "geo.tif")
    block = source.cells(source.frame.pane)
    rows, cols = np.nonzero(block.valid_of(0))
    pick = np.random.default_rng(1).integers(0, rows.size, 4000)
    lon, lat = source.frame.centres(cols[pick].astype(float), rows[pick].astype(float))
    x, y = by_code(32626).from_geographic(*by_code(4326).to_geographic(lon, lat))
    exact = island.heights(x - island.MIDDLE[0], y - island.MIDDLE[1])
    assert np.sqrt(np.mean((block.cells[0][rows[pick], cols[pick]] - exact) ** 2)) < 0.6


def test_codes_are_never_averaged_and_their_legend_is_kept(demo: Program) -> None:
    said = demo("resample", "landcover.tif", "--cell", "40m", "--out", "coarse.tif")
    assert "method mode (classes, coarser)" in said.err
    coarse = open_raster(demo.folder / "coarse.tif")
    assert set(np.unique(coarse.cells(coarse.frame.pane).cells)) <= set(island.CLASSES)
    legend = coarse.bands[0].legend
    assert (
        legend is not None
        and {e.code: (e.name, e.colour) for e in legend.entries if e.name} == island.CLASSES
    )
    assert (
        "average class codes"
        in demo.refuses(
            2, "resample", "landcover.tif", "--cell", "40m", "--method", "cubic", "--out", "x.tif"
        )[0]
    )


def test_a_frame_is_obeyed_by_every_layer(demo: Program) -> None:
    demo(
        "frame",
        "--within",
        "place:Marrow Harbour",
        "--reach",
        "1km",
        "--crs",
        "EPSG:32627",
        "--cell",
        "7m",
        "--out",
        "h.frame.toml",
    )
    wanted = read_frame(demo.folder / "h.frame.toml")
    for verb, source in (
        ("mosaic", "dem"),
        ("clip", "landcover.tif"),
        ("reproject", "ortho/m4.tif"),
        ("resample", "dem/r4.tif"),
    ):
        demo(verb, source, "--onto", "h.frame.toml", "--out", f"{verb}.tif")
        assert open_raster(demo.folder / f"{verb}.tif").frame == wanted
    shown = demo("frame", "--onto", "mosaic.tif").out
    assert shown == (demo.folder / "h.frame.toml").read_text()


def test_frames_by_columns_registration_and_origin(zembrel: Program) -> None:
    area = ["--within", "degree:N46W024", "--crs", "EPSG:4326"]
    told = zembrel("frame", *area, "--columns", "100", "--rows", "50", "--json").json["frame"]
    assert (told["cell"], told["bounds"]) == ([0.01, 0.02], [-24, 46, -23, 47])
    nodes = zembrel("frame", *area, "--cell", "1arcsec", "--registration", "node", "--json").json["frame"]
    assert (nodes["columns"], nodes["rows"], nodes["registration"]) == (3601, 3601, "node")
    moved = zembrel("frame", *area, "--cell", "0.1", "--origin", "0.03,0.05", "--json").json["frame"]
    assert moved["bounds"] == pytest.approx([-24.07, 45.95, -22.97, 47.05])


def test_stacked_bands_come_back_apart(demo: Program) -> None:
    demo("stack", "dem/r1.tif", "dem/r2.tif", "--within", "square:732000,5098400,300m", "--out", "s.tif")
    assert [band.name for band in open_raster(demo.folder / "s.tif").bands] == ["r1", "r2"]
    demo("convert", "s.tif", "--each-band", "--out", "apart/")
    whole = read(demo.folder / "s.tif")
    for n in (1, 2):
        np.testing.assert_array_equal(read(demo.folder / f"apart/s_r{n}.tif").cells[0], whole.cells[n - 1])


def test_types_that_would_lose_values_are_refused_unless_said_how(demo: Program) -> None:
    what, why, remedy = demo.refuses(4, "convert", "dem/r3.tif", "--type", "uint8", "--out", "x.tif")
    heights = read(demo.folder / "dem/r3.tif")
    high = heights.cells[heights.valid[None]]
    assert f"{(high > 255).sum():,} values lie outside" in what and "--clamp" in remedy
    assert why.startswith("its values run from 0")
    demo.refuses(4, "convert", "dem/r3.tif", "--type", "int16", "--out", "x.tif")
    demo("convert", "dem/r3.tif", "--type", "int16", "--round", "--out", "round.tif")
    rounded = read(demo.folder / "round.tif").cells[heights.valid[None]]
    assert np.abs(rounded - high).max() <= 0.5
    demo("convert", "dem/r3.tif", "--type", "uint8", "--clamp", "--out", "clamp.tif")
    assert read(demo.folder / "clamp.tif").cells.max() == 255
    demo("convert", "dem/r3.tif", "--stretch", "0,500", "--out", "grey.png")
    grey = read(demo.folder / "grey.png")
    np.testing.assert_allclose(grey.cells[0][heights.valid], np.clip(high * 255 / 500, 0, 255), atol=0.51)


def test_a_palette_becomes_colours_where_none_can_be_held(demo: Program) -> None:
    said = demo("convert", "landcover.tif", "--out", "cover.jpg", "--set", "quality=100")
    assert "palette to colour bands" in said.err
    demo("convert", "landcover.tif", "--rgb", "--out", "rgb.tif")
    seen = tifffile.imread(demo.folder / "rgb.tif")
    codes = read(demo.folder / "landcover.tif").cells[0]
    for code, (_, colour) in island.CLASSES.items():
        assert (seen[codes == code] == colour).all()


def test_pictures_carry_their_place_beside_them(demo: Program) -> None:
    demo("convert", "landcover.tif", "--out", "c.png")
    assert open_raster(demo.folder / "c.png").frame == open_raster(demo.folder / "landcover.tif").frame
    assert sorted(p.suffix for p in demo.folder.glob("c.*")) == [".pgw", ".png", ".prj"]
    demo("convert", "landcover.tif", "--out", "d.png", "--no-world-file")
    assert [p.suffix for p in demo.folder.glob("d.*")] == [".png"]
    demo("convert", "dem/r1.tif", "--out", "e.tif", "--world-file")
    assert sorted(p.suffix for p in demo.folder.glob("e.*")) == [".prj", ".tfw", ".tif"]


def test_describe_tells_and_compares(demo: Program) -> None:
    told = demo("describe", "dem/r3.tif", "--stats", "--json").json["layers"][0]
    cells = read(demo.folder / "dem/r3.tif")
    values = cells.cells[cells.valid[None]].astype(float)
    seen = told["bands"][0]["statistics"]
    assert seen["valid"] == values.size and seen["mean"] == pytest.approx(values.mean())
    assert (seen["min"], seen["max"]) == (values.min(), values.max())
    lines = demo("describe", "ortho/m3.tif", "ortho/m4.tif").out.splitlines()
    differ = {line[2:].split()[0] for line in lines if line.startswith("*") and "marks" not in line}
    assert {"CRS", "extent", "cells"} <= differ and not differ & {"cell", "bands", "nodata"}
    counted = demo("describe", "landcover.tif", "--stats", "--json").json["layers"][0]["bands"][0][
        "statistics"
    ]
    codes = read(demo.folder / "landcover.tif").cells
    assert counted["classes"] == {str(code): int((codes == code).sum()) for code in island.CLASSES}
    listed = demo("describe", "ortho").out.splitlines()
    assert len(listed) == 8 and "*CRS" in listed[0] and "*bands" not in listed[0]


def test_values_at_a_point_are_the_islands(demo: Program) -> None:
    x, y = island.MIDDLE[0] + 152, island.MIDDLE[1] + 247
    told = demo("describe", "dem/r3.tif", "--at", f"{x},{y}", "--json").json["layers"][0]["at"]
    exact = island.heights(np.array([152.5]), np.array([247.5]))[0]
    assert told["values"][0] == pytest.approx(exact, abs=0.01)
    lon, lat = np.degrees([v[0] for v in by_code(32626).to_geographic(np.array([x]), np.array([y]))]).tolist()
    again = demo("describe", "dem/r3.tif", "--at", f"{lon!r},{lat!r}@EPSG:4326", "--json").json["layers"][0][
        "at"
    ]
    assert (again["column"], again["row"]) == (told["column"], told["row"])
    assert demo.refuses(3, "describe", "dem/r3.tif", "--at", f"{lat!r},{lon!r}@EPSG:4326")[2].startswith(
        "x comes first"
    )


def test_an_index_outlines_every_sheet(demo: Program) -> None:
    demo("index", "ortho", "--out", "sheets.geojson")
    table = read_geojson(demo.folder / "sheets.geojson")
    assert [row["path"] for row in table.rows()] == [f"ortho/m{n}.tif" for n in range(1, 7)]
    for shape, row in zip(table.geometries, table.rows(), strict=True):
        sheet = open_raster(demo.folder / row["path"]).frame
        back = shapely.transform(
            shape, lambda p, f=sheet: np.column_stack(f.crs.from_geographic(*np.radians(p.T)))
        )
        west, south, east, north = sheet.bounds
        assert back.area == pytest.approx((east - west) * (north - south), rel=1e-6)


def test_label_mends_what_a_file_says_and_not_its_cells(demo: Program) -> None:
    shutil.copy(demo.folder / "dem/r1.tif", demo.folder / "l.tif")
    before = read(demo.folder / "l.tif")
    demo(
        "label",
        "l.tif",
        "--crs",
        "EPSG:32627",
        "--names",
        "height",
        "--shift",
        "100.5,-3",
        "--nodata",
        "-9999",
    )
    after = open_raster(demo.folder / "l.tif")
    assert (
        after.frame.crs == by_code(32627)
        and after.bands[0].name == "height"
        and after.bands[0].nodata == -9999
    )
    assert (after.frame.affine.x0, after.frame.affine.y0) == (727_300.5, 5_102_397)
    np.testing.assert_array_equal(tifffile.imread(demo.folder / "l.tif"), before.cells[0])
    demo("label", "l.tif", "--overviews", "--out", "o.tif")
    with tifffile.TiffFile(demo.folder / "o.tif") as file:
        assert [page.imagewidth for page in file.pages] == [1080, 540, 270]
    shutil.copy(demo.folder / "landcover.tif", demo.folder / "c.tif")
    demo("label", "c.tif", "--legend", "landcover.legend.toml")
    legend = open_raster(demo.folder / "c.tif").bands[0].legend
    assert legend is not None
    assert [e for e in legend.entries if e.name] == list(
        read_legend(demo.folder / "landcover.legend.toml").entries
    )
    assert demo.refuses(2, "label", "l.tif", "--names", "a,b")[0] == "2 names for 1 bands"
    assert demo.refuses(2, "label", "l.tif")[0] == "there is nothing to change"


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("big", [False, True])
def test_label_keeps_foreign_files_whole(zembrel: Program, order: str, big: bool) -> None:
    cells = random_cells(70, 50, kind="uint16")
    path = zembrel.folder / "f.tif"
    tifffile.imwrite(
        path, cells, byteorder=order, bigtiff=big, rowsperstrip=9, compression="lzw", software="elsewhere"
    )
    zembrel("label", "f.tif", "--crs", "EPSG:32626", "--shift", "7,8")
    with tifffile.TiffFile(path) as file:
        np.testing.assert_array_equal(file.pages[0].asarray(), cells)
        assert file.byteorder == order and file.pages[0].tags["Software"].value == "elsewhere"
    assert open_raster(path).frame.crs == by_code(32626)


def test_unlike_types_and_nodata_are_brought_together(demo: Program) -> None:
    said = demo("mosaic", "dem", "--out", "relief.tif").err
    assert "type float32 (holds float32, int16)" in said and "overlaps differ" in said
    block = read(demo.folder / "relief.tif")
    land = read(demo.folder / "landcover.tif").cells[0] > 1
    halves = block.valid_of(0).reshape(800, 2, 1040, 2)
    assert (halves.all(axis=(1, 3)) & ~land).sum() + (
        ~halves.any(axis=(1, 3)) & land
    ).sum() < 0.001 * land.size


def test_first_and_last_and_mean_of_unlike_sheets(zembrel: Program) -> None:
    for n, value in enumerate((10, 20, 60)):
        where = frame(30, 30, left=730_000 + 100 * n)
        save(zembrel.folder / f"{n}.tif", raster(np.full((30, 30), value, np.uint8), where=where, nodata=0))
    for rule, middle in (("first", 10), ("last", 60), ("min", 10), ("max", 60), ("mean", 30)):
        zembrel("mosaic", "0.tif", "1.tif", "2.tif", "--overlap", rule, "--out", f"{rule}.tif")
        assert read(zembrel.folder / f"{rule}.tif").cells[0, 15, 25] == middle


def test_sheets_without_data_in_the_area_are_left_out_and_said(demo: Program) -> None:
    said = demo("mosaic", "ortho", "--within", "square:731000,5100000,300m@EPSG:32626", "--out", "x.tif").err
    assert "4 inputs outside the area left out" in said


def test_draw_makes_the_picture_that_was_asked_for(demo: Program) -> None:
    demo("draw", "dem/r1.tif", "--shade", "--size", "640x400", "--out", "r.png")
    picture = Image.open(demo.folder / "r.png").convert("RGB")
    assert picture.size == (640, 400) and len(picture.getcolors(640 * 400) or []) > 2000
    demo("draw", "landcover.tif", "--within", "place:High Marrow", "--reach", "1km", "--out", "c.png")
    counts = {c: n for n, c in Image.open(demo.folder / "c.png").convert("RGB").getcolors(10**6) or []}
    rock, water = (counts[island.CLASSES[code][1]] for code in (island.ROCK, island.WATER))
    assert rock > 50_000 > 1000 > water > 100, "the summit has no water, but the legend has"
    assert demo.refuses(2, "draw", "dem/r3.tif", "--legend", "landcover.legend.toml", "--out", "x.png")
    demo("draw", "dem", "--out", "four.png")
    assert demo.refuses(2, "draw", "dem/r1.tif", "--out", "x.tif")
    assert (
        demo.refuses(2, "draw", "dem/r1.tif", "--ramp", "relif", "--out", "x.png")[2]
        == "did you mean relief?"
    )


def test_formats_prints_the_table_the_code_works_by(zembrel: Program) -> None:
    table = zembrel("formats").out.splitlines()
    first, second = (n for n, line in enumerate(table) if not line)
    for rows, known in (
        (table[:first], FORMATS),
        (table[first + 1 : second], FEATURE_FORMATS),
        (table[second + 1 :], POINT_FORMATS),
    ):
        assert [line.split()[0] for line in rows[1:]] == list(known)
    assert "layered" in zembrel("formats", "laz").out and "--set scale" in zembrel("formats", "las").out
    assert "dBASE" in zembrel("formats", "shapefile").out
    assert json.loads(zembrel("formats", "png", "--json").out)["png"]["types"] == ["uint8", "uint16"]


@pytest.mark.deep
def test_the_worked_example_runs_and_shows_its_commands(zembrel: Program, tmp_path: Path) -> None:
    said = zembrel("demo", "--out", "demo")
    assert said.err.count("$ zembrel ") >= 10 and "no gap inside the area" in said.err
    for name in ("island", "web", "relief", "landcover"):
        assert Image.open(zembrel.folder / "demo" / f"{name}.png").size == (1280, 800)
    assert zembrel.refuses(4, "demo", "--out", "demo")[0] == "demo is not empty"


def test_the_page_about_formats_leaves_none_out() -> None:
    page = (Path(__file__).parents[2] / "docs" / "formats.md").read_text("utf-8")
    rows = [line.split("|")[1] for line in page.splitlines() if line.startswith("| `")]
    named = [name.strip(" `") for row in rows for name in row.split(",")]
    assert sorted(named) == sorted([*FORMATS, *FEATURE_FORMATS, *POINT_FORMATS])
