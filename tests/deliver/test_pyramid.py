"""Tile pyramids: where their tiles lie, what they hold, and that others can read them."""

from __future__ import annotations

import gzip
import io
import json
import math
import sqlite3
import subprocess
import sys
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from browser import Browser
from program import Program
from rasters import raster, save
from zembrel.deliver.packs.kinds import pack_at
from zembrel.deliver.packs.packfacts import PackFacts
from zembrel.deliver.packs.pmtiles import tile_numbers
from zembrel.deliver.quadtree import EncodedTile
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.tiling import TILINGS, TileAddress

LON, LAT = -23.9954, 46.0123  # of the marker
Tiles = Mapping[tuple[int, int, int], bytes]  # by zoom, column and row from the top


def on_tiles(zoom: int) -> tuple[float, float]:
    """The marker's place in cells of all tiles of a zoom, by the formula of the web's maps."""
    size = 256 * 2**zoom
    y = math.log(math.tan(math.pi / 4 + math.radians(LAT) / 2))
    return (LON + 180) / 360 * size, (1 - y / math.pi) / 2 * size


@pytest.fixture(scope="module")
def sheet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A photo of 2 m cells in zone 26 with a bright spot, and a corner where nothing is."""
    to_plane = by_code(32626).from_geographic  # type: ignore[union-attr]
    x, y = (float(v[0]) for v in to_plane(np.radians([LON]), np.radians([LAT])))
    rows, columns = np.mgrid[:700, :900]
    frame = Frame(by_code(32626), Affine(x - 811, y + 633, 2.0, -2.0), 900, 700)
    east, north = x - 811 + 2 * columns + 1, y + 633 - 2 * rows - 1
    spot = 200 * np.exp(-((east - x) ** 2 + (north - y) ** 2) / (2 * 14**2))
    chance = np.random.default_rng(3).integers(0, 9, (3, 700, 900))
    cells = (20 + spot[None] + chance).astype(np.uint8)
    valid = ~((rows < 250) & (columns < 300))
    path = tmp_path_factory.mktemp("sheet") / "photo.tif"
    save(path, raster(cells, valid=valid, where=frame))
    return path


def of_mbtiles(path: Path) -> Tiles:
    rows = sqlite3.connect(path).execute("SELECT zoom_level, tile_column, tile_row, tile_data FROM tiles")
    return {(z, x, 2**z - 1 - y): data for z, x, y, data in rows}


def of_geopackage(path: Path) -> Tiles:
    file = sqlite3.connect(path)
    (table,) = file.execute("SELECT table_name FROM gpkg_contents WHERE data_type = 'tiles'").fetchone()
    rows = file.execute(f"SELECT zoom_level, tile_column, tile_row, tile_data FROM {table}")
    return {(z, x, y): data for z, x, y, data in rows}


def of_zip(path: Path) -> Tiles:
    with zipfile.ZipFile(path) as held:
        names = [name for name in held.namelist() if name.count("/") == 2]
        return {_named(name): held.read(name) for name in names}


def of_folder(path: Path) -> Tiles:
    return {_named(str(file.relative_to(path))): file.read_bytes() for file in path.glob("*/*/*")}


def _named(name: str) -> tuple[int, int, int]:
    zoom, column, row = name.rpartition(".")[0].split("/")
    return int(zoom), int(column), int(row)


def of_pmtiles(path: Path) -> Tiles:
    """By the tables of the specification: numbers of the curve are found by trying all tiles of the area."""
    data = path.read_bytes()
    at = {name: int.from_bytes(data[8 + 8 * n : 16 + 8 * n], "little") for n, name in enumerate(
        ("root", "root_size", "meta", "meta_size", "leaves", "leaves_size", "tiles", "tiles_size"))}  # fmt: skip
    assert data[:8] == b"PMTiles\x03" and data[96] == 1 and data[97] == 2
    assert json.loads(gzip.decompress(data[at["meta"] : at["meta"] + at["meta_size"]]))["name"] == "photo"
    stream = io.BytesIO(gzip.decompress(data[at["root"] : at["root"] + at["root_size"]]))

    def number() -> int:
        value = shift = 0
        while True:
            byte = stream.read(1)[0]
            value += (byte % 128) << shift
            shift += 7
            if byte < 128:
                return value

    count = number()
    steps, runs, sizes, places = ([number() for _ in range(count)] for _ in range(4))
    west, north = on_tiles(0)
    found, tile, end, written = {}, 0, 0, 0
    near = {
        curve(z, x, y): (z, x, y)
        for z in range(data[100], data[101] + 1)
        for x in range(int(west * 2**z / 256) - 9, int(west * 2**z / 256) + 10)
        for y in range(int(north * 2**z / 256) - 9, int(north * 2**z / 256) + 10)
    }
    for step, run, size, place in zip(steps, runs, sizes, places, strict=True):
        tile, start = tile + step, place - 1 if place else end
        end = start + size
        assert start <= written, "clustered: behind what was written, or a picture that stands already"
        written = max(written, end)
        for extra in range(run):
            found[near[tile + extra]] = data[at["tiles"] + start : at["tiles"] + end]
    return found


def curve(zoom: int, column: int, row: int) -> int:
    """The number of a tile, from the four quarters of a square and how each is turned."""
    if min(column, row) < 0 or max(column, row) >= 2**zoom:
        return -1
    number, turns = 0, ((0, 0), (0, 1), (1, 1), (1, 0))  # the order of quarters: x, y
    flipped = exchanged = False
    for bit in range(zoom - 1, -1, -1):
        x, y = column >> bit & 1, row >> bit & 1
        if flipped:
            x, y = 1 - x, 1 - y
        if exchanged:
            x, y = y, x
        quarter = turns.index((x, y))
        number = number * 4 + quarter
        if quarter in (0, 3):
            exchanged = not exchanged
        if quarter == 3:
            flipped = not flipped
    return number + sum(4**z for z in range(zoom))


READERS: dict[str, Any] = {
    "p.mbtiles": of_mbtiles, "p.gpkg": of_geopackage, "p.zip": of_zip, "p/": of_folder, "p.pmtiles": of_pmtiles,
}  # fmt: skip


@pytest.fixture(scope="module")
def packs(sheet: Path, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Tiles]:
    program = Program(tmp_path_factory.mktemp("packs"))
    for name in READERS:
        program("deliver", "pyramid", sheet, "--tile-format", "png", "--out", name)
    return {name: read(program.folder / name) for name, read in READERS.items()}


def picture(data: bytes) -> Any:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGBA")).astype(float)


@pytest.mark.parametrize("name", READERS)
def test_a_spot_is_found_within_half_a_cell_at_every_zoom(packs: dict[str, Tiles], name: str) -> None:
    tiles = packs[name]
    zooms = sorted({zoom for zoom, _, _ in tiles})
    assert zooms[-1] == 16 and len(zooms) > 3
    for zoom in zooms[-4:]:
        x, y = on_tiles(zoom)
        whole = np.zeros((3 * 256, 3 * 256))
        column, row = int(x // 256) - 1, int(y // 256) - 1
        for dx in range(3):
            for dy in range(3):
                data = tiles.get((zoom, column + dx, row + dy))
                if data is not None:
                    seen = picture(data)
                    whole[dy * 256 : dy * 256 + 256, dx * 256 : dx * 256 + 256] = seen[..., 0] * (
                        seen[..., 3] > 0
                    )
        weight = np.clip(whole - 60, 0, None)
        rows, columns = np.mgrid[: 3 * 256, : 3 * 256] + 0.5
        there = (weight * columns).sum() / weight.sum(), (weight * rows).sum() / weight.sum()
        assert there == pytest.approx((x - column * 256, y - row * 256), abs=0.5), zoom


def test_all_packs_hold_the_same_tiles(packs: dict[str, Tiles]) -> None:
    first = packs["p/"]
    for tiles in packs.values():
        assert {place: bytes(data) for place, data in tiles.items()} == dict(first)
    places = set(first)
    highest = max(zoom for zoom, _, _ in places)
    assert all((z - 1, x >> 1, y >> 1) in places for z, x, y in places if z > min(p[0] for p in places))
    west = min(x for z, x, _ in places if z == highest)
    north = min(y for z, _, y in places if z == highest)
    assert (highest, west, north) not in places, "what is empty is left out"


def test_parents_are_means_of_their_children(packs: dict[str, Tiles]) -> None:
    tiles = packs["p.mbtiles"]
    tried = 0
    for (zoom, column, row), data in tiles.items():
        four = [tiles.get((zoom + 1, 2 * column + dx, 2 * row + dy)) for dy in (0, 1) for dx in (0, 1)]
        made = [picture(part) for part in four if part is not None]
        if len(made) < 4:
            continue
        whole = np.vstack([np.hstack(made[:2]), np.hstack(made[2:])])
        parts = whole.reshape(256, 2, 256, 2, 4)
        opaque = (parts[..., 3] == 255).all(axis=(1, 3))
        assert np.abs(picture(data) - parts.mean(axis=(1, 3)))[opaque].max() <= 0.5
        tried += 1
    assert tried > 3


def test_numbers_along_the_curve_are_those_of_the_specification() -> None:
    known = {
        (0, 0, 0): 0,
        (1, 0, 0): 1,
        (1, 0, 1): 2,
        (1, 1, 1): 3,
        (1, 1, 0): 4,
        (2, 0, 0): 5,
        (12, 3423, 1763): 19078479,
    }
    found = tile_numbers(*np.array(list(known)).T)
    assert found.tolist() == list(known.values())
    chance = np.random.default_rng(4)
    zooms = np.repeat(np.arange(24), 60)
    columns, rows = (chance.integers(0, 1 << zooms) for _ in range(2))
    known = map(curve, zooms.tolist(), columns.tolist(), rows.tolist())
    assert tile_numbers(zooms, columns, rows).tolist() == list(known)


def test_databases_are_as_their_standards_have_them(sheet: Path, zembrel: Program) -> None:
    words = ("--title", "Marrowick", "--attribution", "path trust", "--zooms", "13-15")
    for name in ("a.mbtiles", "a.gpkg"):
        zembrel("deliver", "pyramid", sheet, *words, "--out", name)
    file = sqlite3.connect(zembrel.folder / "a.mbtiles")
    said = dict(file.execute("SELECT name, value FROM metadata"))
    assert (said["name"], said["minzoom"], said["maxzoom"]) == ("Marrowick", "13", "15")
    west, south, east, north = map(float, said["bounds"].split(","))
    assert (
        west < LON < east
        and south < LAT < north
        and east - west < 0.04
        and said["attribution"] == "path trust"
    )
    assert said["format"] in ("png", "jpg") and file.execute("PRAGMA application_id").fetchone() == (
        0x4D504258,
    )
    file = sqlite3.connect(zembrel.folder / "a.gpkg")
    assert file.execute("PRAGMA application_id").fetchone() == (0x47504B47,)
    matrix = file.execute("SELECT * FROM gpkg_tile_matrix ORDER BY zoom_level").fetchall()
    assert [row[1] for row in matrix] == [13, 14, 15] and matrix[0][2:6] == (8192, 8192, 256, 256)
    extent = file.execute("SELECT min_x, max_y FROM gpkg_tile_matrix_set").fetchone()
    assert extent == pytest.approx((-20037508.3427892, 20037508.3427892))
    assert matrix[2][6] == pytest.approx(2 * 20037508.3427892 / 2**15 / 256)
    assert file.execute("PRAGMA foreign_key_check").fetchall() == []


def test_what_stands_often_is_kept_once(zembrel: Program) -> None:
    where = Frame(by_code(3857), Affine(-2671667, 5780350, 10.0, -10.0), 1500, 1500)
    save(zembrel.folder / "sea.tif", raster(np.full((1500, 1500), 7, np.uint8), where=where))
    zembrel("deliver", "pyramid", "sea.tif", "--zooms", "10-14", "--out", "sea.mbtiles")
    file = sqlite3.connect(zembrel.folder / "sea.mbtiles")
    held = [data for (data,) in file.execute("SELECT tile_data FROM tiles")]
    assert file.execute("SELECT count(*) FROM pictures").fetchone() == (len(set(held)),)
    assert len(held) > 2 * len(set(held))


@pytest.mark.parametrize(("kind", "read"), [("mbtiles", of_mbtiles), ("pmtiles", of_pmtiles)])
def test_pictures_that_end_alike_are_not_taken_for_each_other(tmp_path: Path, kind: str, read: Any) -> None:
    path, web = tmp_path / f"a.{kind}", TILINGS["WebMercatorQuad"]
    pictures = [bytes([n]) * 100 + b"the end" * 9 for n in (1, 2, 1, 3, 2, 3, 1)]
    store = pack_at(kind, path, web, from_bottom=False)
    for column, data in enumerate(pictures):
        store.put(EncodedTile(TileAddress(3, column, 2), data, "png"))
    store.finish(PackFacts("photo", web, 3, 3, (-180.0, -85.0, 180.0, 85.0)))
    assert read(path) == {(3, n, 2): data for n, data in enumerate(pictures)}
    assert path.read_bytes().count(pictures[0]) == 1


def test_other_tilings_rows_from_the_bottom_and_plans(sheet: Path, zembrel: Program) -> None:
    zembrel(
        "deliver",
        "pyramid",
        sheet,
        "--tiling",
        "WorldCRS84Quad",
        "--rows",
        "bottom",
        "--zooms",
        "14",
        "--out",
        "d/",
    )
    index = json.loads((zembrel.folder / "d" / "tiles.json").read_text())
    assert index["scheme"] == "tms" and index["tile_matrix_set"] == "WorldCRS84Quad"
    column, row = int((LON + 180) / 180 * 2**14), 2**14 - 1 - int((90 - LAT) / 180 * 2**14)
    assert list((zembrel.folder / "d" / "14" / str(column)).glob(f"{row}.*"))
    plan = zembrel("deliver", "pyramid", sheet, "--zooms", "12-18", "--dry-run", "--out", "x.mbtiles").err
    assert "detail is made up" in plan and "tiles" in plan and not (zembrel.folder / "x.mbtiles").exists()


@pytest.mark.parametrize(
    "code, words",
    [
        (2, ("--zooms", "14-8", "--out", "x.mbtiles")), (2, ("--zooms", "40", "--out", "x.mbtiles")),
        (2, ("--out", "x.tif")), (2, ("--tiling", "WebMercator", "--out", "x.zip")), (2, ("--tile-cells", "300", "--out", "x.zip")),
        (2, ("--rows", "bottom", "--out", "x.mbtiles")), (2, ("--tiling", "WorldCRS84Quad", "--out", "x.pmtiles")),
        (2, ("--ramp", "nope", "--out", "x.zip")), (2, ("--quality", "0", "--out", "x.zip")), (2, ("--tile-format", "gif", "--out", "x.zip")),
        (3, ("--within", "0,0,9,9", "--out", "x.zip")), (4, ("--zooms", "8-24", "--ceiling", "1MB", "--out", "x.zip")),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_and_nothing_stays(
    sheet: Path, zembrel: Program, code: int, words: tuple[str, ...]
) -> None:
    before = sorted(zembrel.folder.iterdir())
    zembrel.refuses(code, "deliver", "pyramid", sheet, *words)
    assert [path for path in sorted(zembrel.folder.iterdir()) if path.name != "matplotlib"] == before


def test_the_page_moves_zooms_and_lays_packs_over_each_other(zembrel: Program) -> None:
    where = Frame(by_code(3857), Affine(-2671667, 5780350, 10.0, -10.0), 600, 600)
    for name, colour in (("red", 0), ("blue", 2)):
        cells = np.zeros((3, 600, 600), np.uint8)
        cells[colour] = 200
        save(zembrel.folder / f"{name}.tif", raster(cells, where=where))
    zembrel("deliver", "pyramid", "blue.tif", "--out", "blue/")
    zembrel("deliver", "pyramid", "red.tif", "--viewer", "map.html", "--beside", "blue/", "--out", "red/")
    page = (zembrel.folder / "map.html").read_text("utf-8")
    assert "http:" not in page and "https:" not in page
    with Browser(zembrel.folder) as browser:
        browser.open(zembrel.folder / "map.html")

        def middle() -> tuple[int, ...]:
            while browser.value("waiting || [...held.values()].some((image) => !image.complete)"):
                pass
            return Image.open(io.BytesIO(browser.picture())).convert("RGB").getpixel((640, 400))  # type: ignore[return-value]

        assert middle()[0] > 150 > middle()[2], "the pack itself lies on top"
        browser.value("layers[0].opacity = 0.5; later()")
        assert middle()[0] > 60 and middle()[2] > 60, "the one under it shines through"
        browser.click("layer0")
        assert middle()[2] > 150 > middle()[0]
        before = browser.value("[zoom, x]")
        browser.click("in")
        browser.press("ArrowRight")
        after = browser.value("[zoom, x]")
        assert after[0] == pytest.approx(before[0] + 1) and after[1] > before[1]
        browser.drag((640, 400), (100, 400))
        assert browser.value("x") > after[1]


def test_only_a_folder_has_a_page(sheet: Path, zembrel: Program) -> None:
    assert (
        "folder" in zembrel.refuses(2, "deliver", "pyramid", sheet, "--viewer", "m.html", "--out", "a.zip")[2]
    )
    words = ("deliver", "pyramid", sheet, "--out", "a/", "--viewer")
    assert "no page name" in zembrel.refuses(2, *words, "m.txt")[0]
    assert "no folder of tiles" in zembrel.refuses(3, *words, "m.html", "--beside", ".")[0]
    assert "--viewer" in zembrel.refuses(2, "deliver", "pyramid", sheet, "--out", "a/", "--beside", "b/")[0]
    zembrel(*words, "m.html")
    assert "itself" in zembrel.refuses(2, *words, "m.html", "--beside", "a", "--replace")[0]
    assert "exists" in zembrel.refuses(4, *words, "n.html")[0]
    (zembrel.folder / "a" / "tiles.json").unlink()
    assert "folder" in zembrel.refuses(4, *words, "n.html", "--replace")[0], "it is the user's now"


@pytest.mark.parametrize("way", ["grey", "colours"])
def test_heights_are_had_back_by_the_formula(zembrel: Program, way: str) -> None:
    rows, columns = np.mgrid[:512, :512]
    heights = (120.0 + 0.31 * columns - 0.17 * rows).astype(np.float32)
    span = 2 * 20037508.3427892 / 2**15
    where = Frame(
        by_code(3857),
        Affine(-20037508.3427892 + 14200 * span, 20037508.3427892 - 11660 * span, span / 256, -span / 256),
        512,
        512,
    )
    save(zembrel.folder / "h.tif", raster(heights, valid=columns > 40, where=where, unit="m"))
    zembrel("deliver", "pyramid", "h.tif", "--heights", way, "--zooms", "14-15", "--out", "h/")
    told = json.loads((zembrel.folder / "h" / "tiles.json").read_text())["elevation"]
    for zoom, expected in (
        (15, heights[:256, :256]),
        (14, heights.reshape(256, 2, 256, 2).mean(axis=(1, 3))),
    ):
        image = np.asarray(
            Image.open(
                zembrel.folder / "h" / str(zoom) / str(14200 >> 15 - zoom) / f"{11660 >> 15 - zoom}.png"
            )
        ).astype(float)
        number = image if way == "grey" else image[..., 0] * 65536 + image[..., 1] * 256 + image[..., 2]
        known = image > 0 if way == "grey" else image[..., 3] == 255
        assert known.sum() == 256 * (256 - 41 if zoom == 15 else 256 - 20)
        inside = np.s_[:, 21:]
        assert (
            np.abs((told["base"] + told["step"] * number - expected)[inside][known[inside]]).max()
            <= 0.51 * told["step"]
        )
    assert zembrel.refuses(
        2, "deliver", "pyramid", "h.tif", "--heights", way, "--tile-format", "jpeg", "--out", "x.zip"
    )


def test_infinite_values_take_the_colours_of_the_ends(zembrel: Program) -> None:
    heights = np.mgrid[:60, :60][0].astype(np.float32)
    heights[5, 5], heights[9, 9] = np.inf, -np.inf
    save(zembrel.folder / "i.tif", raster(heights, unit="m"))
    for words in (("paint",), ("deliver", "pyramid")):
        out = "o.tif" if words == ("paint",) else "o.zip"
        assert "infinite" in zembrel.refuses(4, *words, "i.tif", "--out", out)[0]
        zembrel(*words, "i.tif", "--limits", "0,59", "--out", out)
    ends = Image.open(zembrel.folder / "o.tif").convert("RGB")
    assert ends.getpixel((5, 5)) == ends.getpixel((30, 59)) and ends.getpixel((9, 9)) == ends.getpixel(
        (30, 0)
    )


@pytest.mark.deep
def test_a_run_that_was_killed_goes_on_with_the_blocks_that_it_made(zembrel: Program) -> None:
    frame = Frame(by_code(32626), Affine(730000, 5098000, 2.0, -2.0), 2200, 2200)
    chance = np.random.default_rng(4).integers(0, 256, (3, 2200, 2200), np.uint8)
    save(zembrel.folder / "p.tif", raster(chance, where=frame))
    words = ("deliver", "pyramid", "p.tif", "--tile-format", "png", "--workers", "1")
    zembrel(*words, "--out", "whole.mbtiles")
    running = subprocess.Popen(
        [sys.executable, "-m", "zembrel", *words, "--resume", "--out", "o.mbtiles"], cwd=zembrel.folder
    )
    while len(list(zembrel.folder.glob(".zembrel-tiles-*/*"))) < 3:
        assert running.poll() is None, "it was faster than it could be killed"
    running.kill()
    running.wait()
    assert not (zembrel.folder / "o.mbtiles").exists()
    first = next(iter(sorted(zembrel.folder.glob(".zembrel-tiles-*/*[0-9]"))))
    first.write_bytes(first.read_bytes()[:-9])  # what is not whole is made again
    said = zembrel(*words, "--resume", "--out", "o.mbtiles").err
    assert "blocks of tiles stood already" in said
    assert of_mbtiles(zembrel.folder / "o.mbtiles") == of_mbtiles(zembrel.folder / "whole.mbtiles")
    assert not list(zembrel.folder.glob(".zembrel-tiles-*"))


def test_the_kept_blocks_of_another_pack_stay(sheet: Path, zembrel: Program) -> None:
    theirs = zembrel.folder / ".zembrel-tiles-a-b-0123456789abcdef"
    theirs.mkdir()
    (theirs / "3-1-1").write_bytes(b"a block")
    zembrel("deliver", "pyramid", sheet, "--zooms", "12", "--resume", "--out", "a")
    assert (theirs / "3-1-1").exists()


@pytest.mark.parametrize("harm", [{"minzoom": "0"}, {"maxzoom": 99}, {"tiles": []}, {"tiles": ["../{z}/{x}/{y}.png"]}, {"bounds": [0, 1]},
                                  {"tiles": ["http://a.example/{z}"]}, {"name": 7}, {"bounds": [0, 1, "x", 2]}, {"scheme": "odd"}])  # fmt: skip
def test_a_page_believes_no_index_of_tiles_unseen(
    sheet: Path, zembrel: Program, harm: dict[str, object]
) -> None:
    zembrel("deliver", "pyramid", sheet, "--zooms", "12", "--out", "old")
    index = zembrel.folder / "old/tiles.json"
    index.write_text(json.dumps(json.loads(index.read_text()) | harm))
    words = (
        "deliver",
        "pyramid",
        sheet,
        "--zooms",
        "12",
        "--viewer",
        "map.html",
        "--beside",
        "old",
        "--out",
        "new",
    )
    assert "tiles.json is damaged" in zembrel.refuses(3, *words)[0]
