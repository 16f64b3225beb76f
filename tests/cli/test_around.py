"""Grids in degrees that go around the Earth: 350 and -10 are one longitude, for every verb that asks."""

from __future__ import annotations

import io
import json
import sqlite3
import struct
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import shapely
import tifffile
from PIL import Image
from shapely.geometry import shape
from xarray import open_dataset

import depth
from program import Program
from rasters import raster, save
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane

STARTS = (0, -180, 100)  # longitudes that a grid may begin with


def value(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """What stands at a place, whatever turn its longitude is counted on: degrees east of 180 W, and rows."""
    return np.mod(lon + 180, 360) + 1000 * np.round(lat + 90)


def grid(folder: Path, start: float, columns: int = 360, ending: str = "tif") -> str:
    lon, lat = np.meshgrid(start + np.arange(columns) + 0.5, 90 - np.arange(180) - 0.5)
    where = Frame(by_code(4326), Affine(float(start), 90.0, 1.0, -1.0), columns, 180)
    save(folder / f"g.{ending}", raster(value(lon, lat).astype(np.float32), where=where))
    return f"g.{ending}"


def cells(path: Path) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Values, and the longitudes and latitudes of their middles, by another reader."""
    with tifffile.TiffFile(path) as file:
        page = file.pages[0]
        west, north = page.tags[33922].value[3:5]
        across, along = page.tags[33550].value[:2]
        found = page.asarray()
    rows, columns = found.shape
    return found, west + across * (np.arange(columns) + 0.5), north - along * (np.arange(rows) + 0.5)


AREAS = {"-30,40,-20,50": -30, "330,40,340,50": 330, "-5,40,5,50": -5, "355,40,365,50": 355,
         "170,40,-170,50@EPSG:4326": 170}  # fmt: skip


@pytest.mark.parametrize("ending", depth.some(["tif", "nc", "asc"], ["nc"]))
@pytest.mark.parametrize("start", STARTS)
def test_areas_are_found_on_every_turn(zembrel: Program, start: int, ending: str) -> None:
    name = grid(zembrel.folder, start, ending=ending)
    for area, west in AREAS.items():
        zembrel("clip", name, "--within", area, "--out", "c.tif", "--replace", "--from-crs", "EPSG:4326")
        found, lon, lat = cells(zembrel.folder / "c.tif")
        np.testing.assert_array_equal(found, value(*np.meshgrid(lon, lat)))
        assert lon[0] == west + 0.5 and found.shape == (10, 20 if west == 170 else 10)


@pytest.mark.parametrize("start", [-30, 330, 150])
def test_a_part_of_a_turn_is_found_too(zembrel: Program, start: int) -> None:
    name = grid(zembrel.folder, start, columns=60)
    west = (start + 180) % 360 - 180
    for turned in (west + 5, west + 365, west - 355):
        zembrel("clip", name, "--within", f"{turned},40,{turned + 10},50", "--out", "c.tif", "--replace")
        found, lon, lat = cells(zembrel.folder / "c.tif")
        np.testing.assert_array_equal(found, value(*np.meshgrid(lon, lat)))


@pytest.mark.parametrize("start", depth.some(STARTS, STARTS[:1]))
def test_half_a_world_is_not_lost_on_the_way(zembrel: Program, start: int) -> None:
    """Nearest neighbours of the web map's cells, and bilinear values across the seam."""
    name = grid(zembrel.folder, start)
    area = ("--within", "-18000000,-3000000,18000000,3000000")
    zembrel(
        "reproject",
        name,
        "--crs",
        "EPSG:3857",
        *area,
        "--cell",
        "100km",
        "--method",
        "nearest",
        "--out",
        "w.tif",
    )
    found, x, y = cells(zembrel.folder / "w.tif")
    radius = 6_378_137.0
    lon, lat = np.degrees(x / radius), np.degrees(np.arctan(np.sinh(y / radius)))
    due = value(*np.meshgrid(np.floor(lon) + 0.5, np.floor(lat) + 0.5))
    np.testing.assert_array_equal(found, due)
    zembrel(
        "resample",
        name,
        "--within",
        "-30,40,20,50",
        "--cell",
        "0.5",
        "--method",
        "bilinear",
        "--out",
        "r.tif",
    )
    found, lon, lat = cells(zembrel.folder / "r.tif")
    assert np.abs(found[5] - np.interp(lon, lon, value(lon, np.round(lat[5] - 0.01) + 0 * lon))).max() < 1000
    assert np.abs(np.diff(found[5]) - 0.5).max() < 0.01, "it grows by half a degree a cell, across 0 as well"


@pytest.mark.parametrize("start", STARTS)
def test_values_at_places_on_every_turn(zembrel: Program, start: int) -> None:
    name = grid(zembrel.folder, start)
    due = float(value(np.array(-24.5), np.array(45.5)))
    for lon in (-24.5, 335.5):
        said = zembrel("describe", name, "--at", f"{lon},45.5", "--json").json
        assert said["layers"][0]["at"]["values"] == [due]
    (zembrel.folder / "p.csv").write_text("lon,lat,name\n-24.5,45.5,a\n335.5,45.5,b\n0,10.5,c\n")
    zembrel("sample", name, "--at", "p.csv", "--method", "bilinear", "--out", "s.csv")
    rows = (zembrel.folder / "s.csv").read_text().splitlines()[1:]
    assert [float(row.split(",")[-1]) for row in rows] == [
        due,
        due,
        float(value(np.array(0.0), np.array(10.5))),
    ]


def test_grids_of_two_worlds_are_joined_on_one(zembrel: Program) -> None:
    grid(zembrel.folder, 0, columns=180)
    (zembrel.folder / "g.tif").rename(zembrel.folder / "east.tif")
    grid(zembrel.folder, -180, columns=180)
    zembrel("mosaic", "east.tif", "g.tif", "--out", "m.tif")
    found, lon, lat = cells(zembrel.folder / "m.tif")
    assert found.shape == (180, 360)
    np.testing.assert_array_equal(found, value(*np.meshgrid(lon, lat)))


def test_a_store_of_another_writer_from_0_to_360(zembrel: Program) -> None:
    grid(zembrel.folder, 0, ending="nc")
    with open_dataset(zembrel.folder / "g.nc") as file:
        file.load().to_netcdf(zembrel.folder / "x.nc")
    zembrel("clip", "x.nc", "--within", "-30,40,-20,50", "--out", "c.tif")
    found, lon, lat = cells(zembrel.folder / "c.tif")
    np.testing.assert_array_equal(found, value(*np.meshgrid(lon, lat)))


def photo(west: float, width: float = 360.0) -> Any:
    """Colours that go around the Earth, from some longitude on, in cells of a degree."""
    lon = west + 0.5 + np.arange(round(width))
    lat = 84.5 - np.arange(170)[:, None]
    angle = np.radians(lon)[None, :] + 0 * lat
    cells = np.stack([128 + 100 * np.sin(angle), 128 + 100 * np.cos(angle), 128 + lat + 0 * angle])
    return raster(cells.astype(np.uint8), where=Frame(by_code(4326), Affine(west, 85, 1, -1), lon.size, 170))


def test_a_world_map_has_both_its_halves_whatever_longitude_it_begins_with(zembrel: Program) -> None:
    """As -180 to 180, 0 to 360, from -100, and in two files that meet at 180 and at 0."""
    here = zembrel.folder
    for west in (-180, 0, -100):
        save(here / f"w{west}.tif", photo(west))
    for name, west in (("e", 0), ("w", -180), ("beyond", 180)):
        save(here / f"{name}.tif", photo(west, 180))
    given = {
        "w-180": ("w-180.tif",),
        "w0": ("w0.tif",),
        "w-100": ("w-100.tif",),
        "we": ("w.tif", "e.tif"),
        "eb": ("e.tif", "beyond.tif"),
    }
    maps, tiles = {}, {}
    for name, inputs in given.items():
        zembrel("mosaic", *inputs, "--crs", "EPSG:3857", "--cell", "100km", "--out", f"{name}.m.tif")
        made = open_raster(here / f"{name}.m.tif")
        maps[name] = (made.frame, made.cells(made.frame.pane).cells)
        zembrel("deliver", "pyramid", *inputs, "--zooms", "2", "--tile-format", "png", "--out", f"{name}.zip")
        with zipfile.ZipFile(here / f"{name}.zip") as packed:
            held = {n: packed.read(n) for n in packed.namelist() if n.endswith(".png")}
            bounds = json.loads(packed.read("tiles.json"))["bounds"]
        assert {n.split("/")[1] for n in held} == set("0123") and bounds[0] == -180 and bounds[2] == 180
        tiles[name] = {
            n: np.asarray(Image.open(io.BytesIO(data)).convert("RGBA")) for n, data in held.items()
        }
    frame, cells = maps["w-180"]
    assert frame.bounds[0] < -20_037_000 and frame.bounds[2] > 20_037_000
    for name in given:
        assert maps[name][0] == frame and np.abs(maps[name][1].astype(int) - cells).max() <= 2, name
        for tile, pixels in tiles["w-180"].items():
            assert np.abs(tiles[name][tile].astype(int) - pixels).max() <= 2, (name, tile)
    x, _ = frame.centres(np.arange(frame.columns, dtype=float), np.zeros(frame.columns))
    expected = 128 + 100 * np.sin(x / 6_378_137)
    assert np.abs(cells[0, frame.rows // 2] - expected)[1:-1].max() < 4


def spot(folder: Path, name: str, west: float, width: float = 2.0, begin: float = 0.0) -> None:
    """Two degrees, in one file or a part of them: brighter to the east, in steps of a tenth of a degree."""
    columns = round(width * 100)
    lon = begin + np.arange(columns) / 100
    cells = np.stack(
        [
            40 + 100 * np.floor(lon * 10) / 10 + np.zeros((100, 1)),
            np.full((100, columns), 90.0),
            np.full((100, columns), 30.0),
        ]
    )
    where = Frame(by_code(4326), Affine(west, 11, 0.01, -0.01), columns, 100)
    save(folder / f"{name}.tif", raster(cells.astype(np.uint8), where=where))


def tiles_of(path: Path) -> dict[tuple[int, int, int], np.ndarray]:
    """Pictures by zoom, column and row from the top, read by code that shares nothing with the writers."""
    found = {}
    if path.suffix == ".zip":
        with zipfile.ZipFile(path) as packed:
            names = [name for name in packed.namelist() if name.endswith(".png")]
            held = [(tuple(map(int, name[:-4].split("/"))), packed.read(name)) for name in names]
    else:
        with sqlite3.connect(path) as base:
            rows = base.execute("SELECT zoom_level, tile_column, tile_row, tile_data FROM tiles").fetchall()
        held = [((z, c, r if path.suffix == ".gpkg" else 2**z - 1 - r), data) for z, c, r, data in rows]
    for (z, c, r), data in held:
        found[z, c, r] = np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))
    return found


@pytest.mark.parametrize("ending", ["zip", "mbtiles", "gpkg", "pmtiles"])
@pytest.mark.parametrize("given", depth.some(["across", "east west", "west east"], ["west east"]))
def test_a_pack_across_the_antimeridian_is_the_one_across_greenwich_half_a_turn_on(
    zembrel: Program, given: str, ending: str
) -> None:
    here, inputs = zembrel.folder, given.split()
    spot(here, "greenwich", -1.0)
    spot(here, "across", 179.0)
    spot(here, "east", 179.0, 1.0)
    spot(here, "west", -180.0, 1.0, 1.0)
    words = ("--zooms", "0-9", "--tile-format", "png", "--method", "nearest", "--out")
    zembrel("deliver", "pyramid", "greenwich.tif", *words, f"g.{ending}")
    said = zembrel(
        "deliver", "pyramid", *(f"{name}.tif" for name in inputs), *words, f"a.{ending}", "--json"
    ).json
    if ending in ("mbtiles", "pmtiles"):
        zembrel("standin", "device", "phone", f"a.{ending}")
    if ending == "pmtiles":
        west, _, east, _ = struct.unpack("<4i", (here / "a.pmtiles").read_bytes()[102:118])
        assert (west, east) == (-1_800_000_000, 1_800_000_000) and said["results"][0]["count"] > 10
        return
    if ending == "mbtiles":
        with sqlite3.connect(here / "a.mbtiles") as base:
            told = dict(base.execute("SELECT name, value FROM metadata"))
        assert told["bounds"].startswith("-180,") and abs(
            float(told["center"].split(",")[0])
        ) == pytest.approx(180, abs=0.1)
    if ending == "gpkg":
        with sqlite3.connect(here / "g.gpkg") as base:
            extent = base.execute("SELECT min_x, min_y, max_x, max_y FROM gpkg_contents").fetchone()
        assert extent == pytest.approx((-111_319, 1_118_890, 111_319, 1_232_106), abs=1_500), (
            "that of the data"
        )
    wanted, found = tiles_of(here / f"g.{ending}"), tiles_of(here / f"a.{ending}")
    turned = {(z, (c + 2**z // 2) % 2**z, r): picture for (z, c, r), picture in wanted.items() if z}
    assert turned.keys() == {key for key in found if key[0]}
    for key, picture in turned.items():
        assert (np.abs(picture.astype(int) - found[key]) > 12).mean() < 0.01, key
    whole, half = wanted[0, 0, 0], found[0, 0, 0]
    assert (np.roll(whole, 128, axis=1)[..., 3] > 0).sum() == pytest.approx((half[..., 3] > 0).sum(), abs=2)


def test_a_page_shows_what_lies_across_the_antimeridian_as_one_piece(zembrel: Program) -> None:
    spot(zembrel.folder, "across", 179.0)
    zembrel("deliver", "pyramid", "across.tif", "--zooms", "0-8", "--out", "t/", "--viewer", "map.html")
    told = json.loads((zembrel.folder / "t" / "tiles.json").read_text())
    assert told["bounds"][::2] == [-180, 180] and told["extent"][::2] == pytest.approx([179, 181], abs=0.02)
    assert '"extent"' in (zembrel.folder / "map.html").read_text()


def world(folder: Path, name: str, start: int, columns: int = 180) -> None:
    """A scene of 2-degree cells, the same ground whatever longitude its first column has."""
    scene = np.random.default_rng(3).integers(1, 255, (90, 180)).astype(np.uint8)
    turned = scene[:, (np.arange(columns) + (start + 180) // 2) % 180]
    save(
        folder / name,
        raster(turned, where=Frame(by_code(4326), Affine(float(start), 90.0, 2.0, -2.0), columns, 90)),
    )


WAYS = {"from -180": {"a.tif": (-180, 180)}, "from 0": {"a.tif": (0, 180)}, "from -100": {"a.tif": (-100, 180)},
        "cut at 180": {"a.tif": (0, 90), "b.tif": (-180, 90)}, "cut at 0": {"a.tif": (-180, 90), "b.tif": (0, 90)},
        "over each other": {"a.tif": (100, 80), "b.tif": (-180, 140)}}  # fmt: skip
PARTS = {
    "across 180": "170,-10,-170,10",
    "across 0": "-20,-10,20,10",
    "a pole": "-60,70,-20,90",
    "one cell": "178,0,180,2",
}


def ground(path: Path) -> dict[tuple[float, float], int]:
    """Valid cells by where they lie."""
    found = open_raster(path)
    block, frame = found.cells(found.frame.pane), found.frame
    rows, columns = np.mgrid[: frame.rows, : frame.columns].reshape(2, -1).astype(float)
    x, y = frame.centres(columns, rows)
    held = zip(x % 360, y, block.cells[0].ravel(), block.valid_of(0).ravel(), strict=True)
    return {(round(float(a), 6), round(float(b), 6)): int(v) for a, b, v, ok in held if ok}


def one_world(zembrel: Program, way: str, area: str, folder: str) -> Any:
    """What each verb makes of an area of the scene, given in that way."""
    home = Program(zembrel.folder / folder)
    home.folder.mkdir()
    (home.folder / "in").mkdir()
    for name, (start, columns) in WAYS[way].items():
        world(home.folder / "in", name, start, columns)
    names, within = [f"in/{name}" for name in WAYS[way]], f"--within={area}@EPSG:4326"
    home("mosaic", *names, within, "--out", "m.tif")
    made: list[Any] = [ground(home.folder / "m.tif")]
    framed = home("frame", *names, within, "--out", "f.frame.toml").out
    made.append([line for line in framed.splitlines() if line.startswith(("extent", "frame    EPSG"))])
    home("mosaic", *names, "--onto", "f.frame.toml", "--out", "o.tif")
    made.append(ground(home.folder / "o.tif"))
    if len(names) == 1:
        home("clip", names[0], within, "--out", "c.tif")
        home("tile", names[0], within, "--cells", "7", "--out", "t/")
        sheets: dict[tuple[float, float], int] = {}
        for sheet in (home.folder / "t").glob("*.tif"):
            sheets |= ground(sheet)
        made += [ground(home.folder / "c.tif"), sheets]
    else:
        made += [made[0], made[0]]
    carry = "reproject" if len(names) == 1 else "mosaic"
    home(
        carry,
        *names,
        within,
        "--crs",
        "EPSG:6933",
        "--cell",
        "150km",
        "--method",
        "nearest",
        "--out",
        "e.tif",
    )
    equal = open_raster(home.folder / "e.tif")
    made += [equal.frame, equal.cells(equal.frame.pane).cells.tolist()]
    home("index", "m.tif", "--out", "i.geojson")
    (outline,) = json.loads((home.folder / "i.geojson").read_text())["features"]
    made.append(shapely.normalize(shapely.set_precision(shape(outline["geometry"]), 1e-9)).wkt)
    home("source", "add", "s", "in" if len(names) > 1 else names[0], "--kind", "file")
    home("fetch", "s", within, "--out", "fetched/q.tif")
    made.append(ground(home.folder / "fetched/q.tif"))
    assert made[-1] == made[0]
    home("deliver", "globe", *names, within, "--ramp", "viridis", "--limits", "0,255", "--out", "g.kmz")
    with zipfile.ZipFile(home.folder / "g.kmz") as held:
        pictures = [name for name in held.namelist() if name.endswith((".png", ".jpg")) and name != "key.png"]
        made.append({name: held.read(name) for name in pictures})
    home("draw", "m.tif", "--limits", "0,255", "--out", "p.png")
    made.append(np.asarray(Image.open(home.folder / "p.png")).tolist())
    if area.endswith(",10"):
        home("deliver", "chart", *names, within, "--ramp", "viridis", "--limits", "0,255", "--out", "k.kap")
        chart = open_raster(home.folder / "k.kap")
        legend = chart.bands[0].legend
        assert legend is not None
        colours = legend.colours_of(chart.cells(chart.frame.pane).cells[0]).astype(int)
        made += [chart.frame.bounds, colours // 8]  # whose roundings differ by the turn
    return made


@pytest.mark.parametrize("part", depth.some(PARTS, ["across 180"]))
def test_one_scene_is_one_whatever_way_it_is_given_in(zembrel: Program, part: str) -> None:
    """In one file or two, from any longitude on, in any order: the same cells at the same places."""
    ways = list(WAYS) if depth.ASKED else ["from -180", "from 0", "cut at 180"]
    made = {way: one_world(zembrel, way, PARTS[part], f"w{n}") for n, way in enumerate(ways)}
    first = made["from -180"]
    assert first[0]
    for way, found in made.items():
        for number, (one, other) in enumerate(zip(first, found, strict=True)):
            if isinstance(one, np.ndarray):
                assert (np.abs(one - other) <= 1).all(), way
            else:
                assert one == other, (way, number)


HOMES = {"zone 1": (32601, 100_000.0, 5_200_000.0, 4_000.0), "zone 60": (32660, 500_000.0, 5_200_000.0, 4_000.0),
         "north": (3413, -3e6, 3e6, 4e4), "south": (3031, -3e6, 3e6, 4e4)}  # fmt: skip


def smooth(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """A value of each place on the Earth, the same from whichever side it is come to; degrees."""
    east, north = np.radians(lon), np.radians(lat)
    return np.asarray(
        100 + 50 * np.cos(north) * np.cos(east) + 30 * np.cos(north) * np.sin(east) + 20 * np.sin(north)
    )


@pytest.mark.parametrize("home", HOMES)
def test_maps_that_cross_180_give_what_stands_there(zembrel: Program, home: str) -> None:
    """A map of a zone beside 180, or of a pole, has one extent, and each of its cells the value of its place."""
    code, west, north, cell = HOMES[home]
    where = Frame(by_code(code), Affine(west, north, cell, -cell), 150, 150)
    rows, columns = np.mgrid[:150, :150].reshape(2, -1).astype(float)
    lon, lat = by_code(code).to_geographic(*where.centres(columns, rows))
    values = smooth(np.degrees(lon), np.degrees(lat)).reshape(150, 150).astype(np.float32)
    save(zembrel.folder / "whole.tif", raster(values, where=where))
    for name, pane in {"left": Pane(0, 0, 150, 80), "right": Pane(0, 80, 150, 150)}.items():
        save(
            zembrel.folder / f"{name}.tif", raster(values[:, pane.left : pane.right], where=where.crop(pane))
        )
    zembrel("reproject", "whole.tif", "--crs", "EPSG:4326", "--cell", "0.1", "--out", "o.tif")
    zembrel(
        "mosaic",
        "right.tif",
        "left.tif",
        "--crs",
        "EPSG:4326",
        "--cell",
        "0.1",
        "--method",
        "cubic",
        "--out",
        "m.tif",
    )
    for name in ("o.tif", "m.tif"):
        found, x, y = cells(zembrel.folder / name)
        width = x[-1] - x[0]
        assert width > 359 if home in ("north", "south") else 5 < width < 12, name
        x, y = np.meshgrid(x, y)
        known = np.isfinite(found)
        assert known.mean() > 0.3 and np.abs(found - smooth(x, y))[known].max() < 0.5, name
        assert np.abs(found - smooth(x, y))[known].mean() < 0.02, name
    places = [(180.0, 45.0), (-180.0, 45.0), (-179.5, 44.0), (179.9, 46.0)]
    if home in ("north", "south"):
        places = [(180.0, 80.0), (-180.0, 80.0), (0.0, 89.9), (-90.0, 85.0)]
        places = [(x, y if home == "north" else -y) for x, y in places]
    features = [
        {"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": place}}
        for place in places
    ]
    (zembrel.folder / "p.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    zembrel("sample", "whole.tif", "--at", "p.geojson", "--method", "bilinear", "--out", "s.csv")
    rows_of = (zembrel.folder / "s.csv").read_text().splitlines()
    got = [float(line.split(",")[-1]) for line in rows_of[1:]]
    np.testing.assert_allclose(got, [smooth(np.array(x), np.array(y)) for x, y in places], atol=0.3)


@pytest.mark.parametrize("grid", ["EPSG:3857 223km", "EPSG:4326 0.7"])
def test_a_grid_that_does_not_close_is_read_on_both_sides_of_its_seam(zembrel: Program, grid: str) -> None:
    """Its columns do not divide the turn. Cells beyond 180 are in the result all the same."""
    crs, cell = grid.split()
    fine = np.mgrid[90:-90:-0.25, -180:180:0.25]
    values = smooth(fine[1] + 0.125, fine[0] - 0.125).astype(np.float32)
    save(
        zembrel.folder / "fine.tif",
        raster(values, where=Frame(by_code(4326), Affine(-180.0, 90.0, 0.25, -0.25), 1440, 720)),
    )
    zembrel(
        "reproject",
        "fine.tif",
        "--crs",
        crs,
        "--cell",
        cell,
        "--within",
        "-180,-60,180,60@EPSG:4326",
        "--out",
        "w.tif",
    )
    rings = [
        [[170, -10], [180, -10], [180, 10], [170, 10], [170, -10]],
        [[-180, -10], [-170, -10], [-170, 10], [-180, 10], [-180, -10]],
    ]
    cut = {
        "type": "Feature",
        "properties": {},
        "geometry": {"type": "MultiPolygon", "coordinates": [[ring] for ring in rings]},
    }
    (zembrel.folder / "cut.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [cut]}))
    for words in (("clip",), ("mosaic",), ("resample", "--cell", cell)):
        for area in ("170,-10,-170,10@EPSG:4326", "cut.geojson"):
            zembrel(words[0], "w.tif", *words[1:], "--within", area, "--out", "o.tif", "--replace")
            made = open_raster(zembrel.folder / "o.tif")
            block, (rows, columns) = (
                made.cells(made.frame.pane),
                np.mgrid[: made.frame.rows, : made.frame.columns],
            )
            lon, lat = made.frame.crs.to_geographic(
                *made.frame.centres(columns.ravel().astype(float), rows.ravel().astype(float))
            )  # type: ignore[union-attr]
            lon, lat = np.degrees(lon) % 360, np.degrees(lat)
            valid, found = block.valid_of(0).ravel(), block.cells[0].ravel()
            inside = (np.abs(lon - 180) < 9) & (np.abs(lat) < 9)
            assert inside[lon > 181].any() and valid[inside].all(), (words, area)
            assert np.abs(found - smooth(lon, lat))[inside].max() < 1, (words, area)
