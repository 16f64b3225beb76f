"""Packs for virtual globes: sound by the schema, and everything at its place at every level of detail."""

from __future__ import annotations

import io
import posixpath
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import fastkml
import numpy as np
import pytest
from lxml import etree
from PIL import Image

import zembrel as z
from program import Program
from rasters import raster, save
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.legend import Legend, LegendEntry

LON, LAT = -23.9954, 46.0123  # of the marker
KML = "{http://www.opengis.net/kml/2.2}"
SCHEMA = etree.XMLSchema(etree.parse(Path(fastkml.__file__).parent / "schema" / "ogckml22.xsd"))
PLACES = """{"type": "FeatureCollection", "features": [
 {"type": "Feature", "properties": {"name": "Cairn & <hut>", "kind": "peak", "height": 412.5},
  "geometry": {"type": "Point", "coordinates": [-23.9954, 46.0123]}},
 {"type": "Feature", "properties": {"name": "Path", "kind": "path", "height": null},
  "geometry": {"type": "LineString", "coordinates": [[-23.9954, 46.0123], [-23.99, 46.01]]}},
 {"type": "Feature", "properties": {"name": "Wood", "kind": "wood", "height": 3},
  "geometry": {"type": "Polygon", "coordinates": [[[-24.0, 46.0], [-23.99, 46.0], [-23.99, 46.01], [-24.0, 46.0]]]}}]}"""


@pytest.fixture(scope="module")
def sheet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A photo of 2 m cells in zone 26 with a bright spot, and a corner where nothing is."""
    x, y = (float(v[0]) for v in by_code(32626).from_geographic(np.radians([LON]), np.radians([LAT])))  # type: ignore[union-attr]
    rows, columns = np.mgrid[:1200, :1700]
    frame = Frame(by_code(32626), Affine(x - 1411, y + 1133, 2.0, -2.0), 1700, 1200)
    east, north = x - 1411 + 2 * columns + 1, y + 1133 - 2 * rows - 1
    spot = 200 * np.exp(-((east - x) ** 2 + (north - y) ** 2) / (2 * 40**2))
    chance = np.random.default_rng(3).integers(0, 9, (3, 1200, 1700))
    path = tmp_path_factory.mktemp("sheet") / "photo.tif"
    valid = ~((rows < 250) & (columns < 300))
    save(path, raster((20 + spot[None] + chance).astype(np.uint8), valid=valid, where=frame))
    return path


def documents(path: Path) -> Iterator[tuple[str, Any]]:
    """Every document that is reached from the first one, sound by the schema."""
    with zipfile.ZipFile(path) as held:
        first = next(name for name in held.namelist() if name.endswith(".kml"))
        assert first == "doc.kml"
        waiting, reached = [first], set()
        while waiting:
            name = waiting.pop()
            root = etree.fromstring(held.read(name))
            SCHEMA.assertValid(root)
            reached.add(name)
            yield name, root
            links = [node.findtext(f"{KML}Link/{KML}href") for node in root.iter(f"{KML}NetworkLink")]
            waiting += [posixpath.normpath(posixpath.join(posixpath.dirname(name), link)) for link in links]
        assert reached == {name for name in held.namelist() if name.endswith(".kml")}, (
            "nothing is out of reach"
        )


def pieces(path: Path) -> Iterator[tuple[int, tuple[float, ...], Any, Any]]:
    """Level, west south east north, picture as red, green, blue and opacity, and the overlay of each piece."""
    with zipfile.ZipFile(path) as held:
        for name, root in documents(path):
            for node in root.iter(f"{KML}GroundOverlay"):
                box = node.find(f"{KML}LatLonBox")
                sides = tuple(float(box.findtext(KML + side)) for side in ("west", "south", "east", "north"))
                image = posixpath.join(posixpath.dirname(name), node.findtext(f"{KML}Icon/{KML}href"))
                picture = np.asarray(Image.open(io.BytesIO(held.read(image))).convert("RGBA"))
                yield int(node.findtext(f"{KML}drawOrder")), sides, picture, node


def spot_at(path: Path, level: int) -> tuple[float, float, float]:
    """The middle of what is bright at a level, in degrees, and the height of its cells."""
    weight = x = y = size = 0.0
    for found, (west, south, east, north), picture, _ in pieces(path):
        if found != level:
            continue
        rows, columns = picture.shape[:2]
        bright = np.where((picture[..., 0] > 90) & (picture[..., 3] > 0), picture[..., 0] - 30.0, 0)
        weight += bright.sum()
        x += bright.sum(0) @ (west + (np.arange(columns) + 0.5) * (east - west) / columns)
        y += bright.sum(1) @ (north - (np.arange(rows) + 0.5) * (north - south) / rows)
        size = (north - south) / rows
    return x / weight, y / weight, size


def test_a_spot_lies_at_its_place_at_every_level(sheet: Path, zembrel: Program) -> None:
    said = zembrel("deliver", "globe", sheet, "--out", "g.kmz", "--json").json
    levels = next(fact["levels"] for fact in said["chose"] if fact["fact"] == "detail_levels")
    assert levels == 4
    for level in range(levels):
        lon, lat, cell = spot_at(zembrel.folder / "g.kmz", level)
        assert abs(lat - LAT) < 0.5 * cell and abs(lon - LON) < 0.75 * cell, level
    native = max(sides[3] - sides[1] for _, sides, _, node in pieces(zembrel.folder / "g.kmz"))
    assert native < 0.05
    shapes = [picture.shape for level, _, picture, _ in pieces(zembrel.folder / "g.kmz") if level == 3]
    assert max(max(shape) for shape in shapes) == 512 and min(min(shape[:2]) for shape in shapes) < 512


def test_a_piece_is_shown_when_it_is_large_enough_and_links_to_those_in_it(
    sheet: Path, zembrel: Program
) -> None:
    zembrel("deliver", "globe", sheet, "--opacity", "0.5", "--out", "g.kmz")
    for name, root in documents(zembrel.folder / "g.kmz"):
        for link in root.iter(f"{KML}NetworkLink"):
            assert float(link.findtext(f".//{KML}minLodPixels")) == (0 if name == "doc.kml" else 256)
        for node in root.iter(f"{KML}GroundOverlay"):
            finest = node.findtext(f"{KML}drawOrder") == "3"
            assert float(node.findtext(f".//{KML}maxLodPixels")) == (-1 if finest else 512)
            assert node.findtext(f"{KML}color") == "80ffffff"


def test_one_level_has_all_at_full_resolution_at_once(sheet: Path, zembrel: Program) -> None:
    zembrel(
        "deliver", "globe", sheet, "--levels", "1", "--order", "7", "--visible", "1km,50km", "--out", "g.kmz"
    )
    found = list(pieces(zembrel.folder / "g.kmz"))
    assert {level for level, *_ in found} == {7} and sum(p.shape[1] for _, _, p, _ in found) > 2048
    assert [name for name, _ in documents(zembrel.folder / "g.kmz")] == ["doc.kml"]
    low, high = (float(found[0][3].findtext(f".//{KML}{end}LodPixels")) for end in ("min", "max"))
    assert high / low == pytest.approx(50, rel=1e-3)


def test_features_keep_names_values_and_places_and_get_colours(zembrel: Program) -> None:
    (zembrel.folder / "places.geojson").write_text(PLACES)
    zembrel(
        "deliver", "globe", "places.geojson", "--field", "kind", "--title", "Isle & sea", "--out", "g.kmz"
    )
    roots = dict(documents(zembrel.folder / "g.kmz"))
    assert roots["doc.kml"].findtext(f"{KML}Document/{KML}name") == "Isle & sea"
    assert roots["doc.kml"].find(f".//{KML}ScreenOverlay") is not None
    marks = list(roots["f0.kml"].iter(f"{KML}Placemark"))
    assert [mark.findtext(f"{KML}name") for mark in marks] == ["Cairn & <hut>", "Path", "Wood"]
    assert marks[0].findtext(f".//{KML}Point/{KML}coordinates") == "-23.9954,46.0123"
    values = {data.get("name"): data.findtext(f"{KML}value") for data in marks[0].iter(f"{KML}Data")}
    # viewers take values for HTML
    assert values == {"name": "Cairn &amp; &lt;hut&gt;", "kind": "peak", "height": "412.5"}
    styles = {style.get("id") for style in roots["f0.kml"].iter(f"{KML}Style")}
    assert {mark.findtext(f"{KML}styleUrl")[1:] for mark in marks} == styles and len(styles) == 3
    zembrel(
        "deliver",
        "globe",
        "places.geojson",
        "--no-key",
        "--within",
        "-23.996,46.012,-23.995,46.0125",
        "--out",
        "h.kmz",
    )
    roots = dict(documents(zembrel.folder / "h.kmz"))
    assert roots["doc.kml"].find(f".//{KML}ScreenOverlay") is None
    assert len(list(roots["f0.kml"].iter(f"{KML}Placemark"))) == 2


def test_a_colour_becomes_clear_and_layers_lie_over_each_other(zembrel: Program) -> None:
    where = Frame(by_code(4326), Affine(-24.0, 46.0, 0.001, -0.001), 60, 40)
    cells = np.full((3, 40, 60), 250, np.uint8)
    cells[:, 10:20, 10:30] = [[[30]], [[90]], [[200]]]
    cells[0, 0, 0] = 236
    save(zembrel.folder / "map.tif", raster(cells, where=where))
    codes = raster(np.full((40, 60), 3, np.uint8), where=where)
    legend = Legend((LegendEntry(3, "heath", (120, 90, 20)),))
    save(
        zembrel.folder / "cover.tif",
        codes.__class__(codes.frame, (codes.bands[0].__class__("c", "uint8", legend=legend),), codes.values),
    )
    zembrel(
        "deliver",
        "globe",
        "map.tif",
        "cover.tif",
        "--each",
        "--clear",
        "#fafafa",
        "--tolerance",
        "9",
        "--out",
        "g.kmz",
    )
    (top, _, picture, _), (below, _, under, _) = sorted(
        pieces(zembrel.folder / "g.kmz"), key=lambda piece: -piece[0]
    )
    assert top > below and under[5, 5].tolist() == [120, 90, 20, 255]
    assert (
        picture[15, 20].tolist() == [30, 90, 200, 255] and picture[30, 30, 3] == 0 and picture[0, 0, 3] == 255
    )
    names = [
        node.findtext(f"{KML}name")
        for node in dict(documents(zembrel.folder / "g.kmz"))["doc.kml"].iter(f"{KML}Folder")
    ]
    assert names == ["map", "cover"]


def test_rasters_in_memory_are_shown_and_features_elsewhere_are_not(sheet: Path, zembrel: Program) -> None:
    z.deliver_globe(z.open(sheet), out=zembrel.folder / "m.kmz")
    assert len(list(pieces(zembrel.folder / "m.kmz"))) > 10
    (zembrel.folder / "places.geojson").write_text(PLACES)
    area = ("--within", "0,0,1,1@EPSG:4326")
    assert (
        "nothing to show"
        in zembrel.refuses(3, "deliver", "globe", "places.geojson", *area, "--out", "g.kmz")[0]
    )


@pytest.mark.parametrize("west", [179.9, -180.1])
def test_a_layer_across_the_antimeridian_keeps_its_boxes_sound(zembrel: Program, west: float) -> None:
    where = Frame(by_code(4326), Affine(west, 60.0, 0.002, -0.002), 100, 50)
    save(zembrel.folder / "a.tif", raster(np.full((3, 50, 100), 90, np.uint8), where=where))
    zembrel("deliver", "globe", "a.tif", "--out", "g.kmz")
    ((_, sides, _, _),) = pieces(zembrel.folder / "g.kmz")
    assert sides == pytest.approx((179.9, 59.9, -179.9, 60.0))


@pytest.mark.parametrize(
    "code, words",
    [
        (2, ("--out", "g.kml")), (2, ("--opacity", "0", "--out", "g.kmz")), (2, ("--levels", "0", "--out", "g.kmz")),
        (2, ("--tolerance", "3", "--out", "g.kmz")), (2, ("--clear", "whitish", "--out", "g.kmz")),
        (2, ("--visible", "5km", "--out", "g.kmz")), (2, ("--visible", "9km,5km", "--out", "g.kmz")),
        (2, ("--ramp", "nope", "--out", "g.kmz")), (3, ("--within", "0,0,9,9", "--out", "g.kmz")),
        (4, ("--ceiling", "1MB", "--out", "g.kmz")),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_and_nothing_stays(
    sheet: Path, zembrel: Program, code: int, words: tuple[str, ...]
) -> None:
    zembrel.refuses(code, "deliver", "globe", sheet, *words)
