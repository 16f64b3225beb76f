"""Every kind of service puts the ground where it is."""

from __future__ import annotations

import math
import urllib.error
import urllib.request

import numpy as np
import pytest
import tifffile

from program import Program
from sources.island import REACH, SPOT, Site

CELL = 0.00002  # degrees
AREA = f"{SPOT[0] - 0.001},{SPOT[1] - 0.0008},{SPOT[0] + 0.001},{SPOT[1] + 0.0008}@EPSG:4326"
XYZ = {"zooms": "0-18", "version": "912"}
KINDS = {
    "xyz": ("/xyz/{version}/ortho/{z}/{x}/{y}.png", "xyz", XYZ),
    "xyz in webp": ("/xyz/{version}/ortho/{z}/{x}/{y}.webp", "xyz", XYZ),
    "tms": ("/tms/{version}/ortho/{z}/{x}/{y}.png", "tms", XYZ),
    "rows from the south": ("/tms/{version}/ortho/{z}/{x}/{-y}.png", "xyz", XYZ),
    "wmts by resources": ("/wmts", "wmts", {"layer": "ortho", "format": "image/png"}),
    "wmts by keys": ("/wmts", "wmts", {"layer": "ortho", "format": "image/jpeg"}),
    "wms 1.3.0": ("/wms", "wms", {"layer": "ortho"}),
    "wms 1.1.1": ("/wms", "wms", {"layer": "ortho", "version": "1.1.1"}),
    "tiles": ("/ogc", "tiles", {"layer": "ortho"}),
    "coverages": ("/ogc", "coverages", {"layer": "ortho", "holds": "colours"}),
    "wcs": ("/wcs", "wcs", {"layer": "ortho", "holds": "colours"}),
}


def spot_of(cells: np.ndarray, west: float, north: float) -> tuple[float, float]:
    """The middle of what is white, in degrees."""
    rows, columns = np.nonzero(cells > 200)
    return west + (columns.mean() + 0.5) * CELL, north - (rows.mean() + 0.5) * CELL


@pytest.mark.parametrize("kind", KINDS)
def test_a_spot_is_where_it_is(program: Program, island: Site, kind: str) -> None:
    path, form, settings = KINDS[kind]
    island.add(program, "s", path, form, **settings)
    said = program(
        "fetch",
        "s",
        "--within",
        AREA,
        "--crs",
        "EPSG:4326",
        "--cell",
        f"{CELL}",
        "--method",
        "bilinear",
        "--out",
        "o.tif",
        "--json",
    ).json
    west, _, _, north = said["frame"]["bounds"]
    cells = tifffile.imread(program.folder / "o.tif")[..., 1]
    x, y = spot_of(cells, west, north)
    native = (
        CELL if form in ("wms", "coverages") else 360 / 2**18 / 256 if form != "wcs" else 2 / 111_000 * 1.44
    )
    assert abs(x - SPOT[0]) < max(CELL, native) / 2 and abs(y - SPOT[1]) < max(CELL, native) / 2
    assert (cells > 200).sum() == pytest.approx(4 * REACH**2 * 1.44 / CELL**2, rel=0.1)


def test_heights_and_codes_mean_what_they_say(program: Program, island: Site) -> None:
    where = ("--within", AREA, "--crs", "EPSG:4326", "--cell", f"{CELL * 5}", "--method", "bilinear")
    numbers = {"heights__base": -1000, "heights__step": 0.1}
    island.add(program, "h", "/xyz/{version}/heights/{z}/{x}/{y}.png", "xyz", **XYZ, **numbers)
    island.add(program, "c", "/xyz/{version}/cover/{z}/{x}/{y}.png", "xyz", **XYZ, holds="codes")
    island.add(program, "w", "/wcs", "wcs", layer="heights", holds="heights")
    for name in "hcw":
        program("fetch", name, *(where[:-2] if name == "c" else where), "--out", f"{name}.tif")
    heights, codes, own = (tifffile.imread(program.folder / f"{name}.tif") for name in "hcw")
    assert heights[4, 4] == pytest.approx(100 + 1_000 * (-0.001 + 4.5e-4) + 500 * (0.0008 - 4.5e-4), abs=0.6)
    assert np.abs(heights - own)[:3].max() < 0.6 and heights.max() == pytest.approx(500, abs=0.1)
    assert set(np.unique(codes)) <= {2, 3, 4, 6} and codes.dtype == np.uint8
    island.add(program, "m", "/wms", "wms", layer="cover", holds="codes")
    program("fetch", "m", "--onto", "c.tif", "--out", "m.tif")
    assert (tifffile.imread(program.folder / "m.tif") == codes).mean() > 0.95


@pytest.mark.parametrize("kind", ["xyz", "wms 1.3.0", "wcs"])
def test_the_rectangle_of_the_result_is_filled_to_its_corners(
    program: Program, island: Site, kind: str
) -> None:
    path, form, settings = KINDS[kind]
    island.add(program, "s", path, form, **settings)
    for way in (
        (("--crs", "EPSG:32627", "--cell", "8m"), ("--cell", "8"))
        if form != "wms"
        else (("--crs", "EPSG:32627", "--cell", "8m"),)
    ):
        within = f"square:{SPOT[0]},{SPOT[1]},1.2mi@EPSG:4326"
        said = program("fetch", "s", "--within", within, *way, "--out", "o.tif", "--replace", "--json").json
        assert said["checks"][0]["fact"] == "all_valid"


def test_a_map_lands_on_the_very_cells_of_a_frame(program: Program, island: Site) -> None:
    program("frame", "--within", AREA, "--crs", "EPSG:32626", "--cell", "2m", "--out", "f.frame.toml")
    island.add(program, "m", "/wms", "wms", layer="ortho")
    said = program("fetch", "m", "--onto", "f.frame.toml", "--out", "m.tif", "--json").json
    assert "native_cells" in [chose["fact"] for chose in said["chose"]]
    assert said["frame"]["crs"] == "EPSG:32626" and said["frame"]["cell"] == [2, 2]


@pytest.mark.parametrize(
    ("path", "form", "settings"), [KINDS["xyz"], KINDS["wms 1.3.0"], KINDS["wmts by keys"]]
)
def test_across_the_antimeridian_and_at_the_edge_of_the_map(
    program: Program, island: Site, path: str, form: str, settings: dict[str, object]
) -> None:
    island.add(program, "s", path, form, **settings)
    if form == "xyz":
        settings = {**settings, "zooms": "0-12"}
        island.add(program, "s", path, form, **settings)
    words = ("--crs", "EPSG:4326", "--cell", "0.001", "--out")
    said = program("fetch", "s", "--within", "179.9,10,-179.9,10.1@EPSG:4326", *words, "a.tif", "--json").json
    west, _, east, _ = said["frame"]["bounds"]
    assert (west, east) == (pytest.approx(179.9), pytest.approx(180.1))
    assert (
        tifffile.imread(program.folder / "a.tif").shape[1] == 200 and said["checks"][0]["fact"] == "all_valid"
    )
    if form != "wms":
        refused = program.refuses(6, "fetch", "s", "--within", "10,86,11,87@EPSG:4326", *words, "p.tif")
        assert "has nothing in the area" in refused[0]


def test_any_verb_reads_a_source_lazily_and_a_quilt_names_one(program: Program, island: Site) -> None:
    island.add(
        program,
        "s",
        "/xyz/{version}/ortho/{z}/{x}/{y}.png",
        "xyz",
        zooms="0-14",
        version="912",
        bounds="-24.05,45.95,-23.95,46.05",
    )
    before = island.faults.asked
    program("clip", "sources/s.source.toml", "--within", AREA, "--out", "c.tif")
    assert island.faults.asked - before <= 9  # of some thousand
    program("mosaic", "sources/s.source.toml", "--within", AREA, "--out", "q.quilt.toml")
    program("convert", "q.quilt.toml", "--out", "q.tif")
    program("mosaic", "sources/s.source.toml", "--within", AREA, "--out", "c.tif", "--replace")
    np.testing.assert_array_equal(
        tifffile.imread(program.folder / "c.tif"), tifffile.imread(program.folder / "q.tif")
    )
    island.add(program, "big", "/xyz/{version}/ortho/{z}/{x}/{y}.png", "xyz", **XYZ)
    assert (
        "--offline"
        in program.refuses(
            4, "clip", "sources/big.source.toml", "--within", AREA, "--offline", "--out", "o.tif"
        )[1]
    )


def test_bands_are_picked_and_a_dead_tile_is_void_in_them_too(program: Program, island: Site) -> None:
    island.add(
        program, "s", "/xyz/{version}/ortho/{z}/{x}/{y}.png", "xyz", **{**XYZ, "zooms": "0-16"}, tries=1
    )
    within = ("--within", f"circle:{SPOT[0]},{SPOT[1]},1km@EPSG:4326", "--zoom", "15")
    program("fetch", "s", *within, "--out", "all.tif")
    program("fetch", "s", *within, "--bands", "blue,red", "--out", "two.tif")
    whole, two = (tifffile.imread(program.folder / name) for name in ("all.tif", "two.tif"))
    np.testing.assert_array_equal(two, whole[..., [2, 0]])
    program("source", "cache", "clear")
    vars(island.faults).update(dead="/15/14199/11657.")
    said = program("fetch", "s", *within, "--bands", "blue", "--out", "one.tif", "--json", code=7).json
    assert len(said["lost"]) == 1 and said["results"][0]["bands"] == 1


def test_what_a_service_offers_is_listed(program: Program, island: Site) -> None:
    for kind in ("wms 1.3.0", "wmts by keys", "wcs", "tiles"):
        path, form, settings = KINDS[kind]
        island.add(program, "s", path, form, **settings)
        offers = program("source", "test", "s", "--json").json["offers"]
        assert {"ortho", "heights", "cover"} == {offer["name"] for offer in offers}
    island.add(program, "s", "/wms", "wms", layer="orto")
    assert (
        program.refuses(3, "fetch", "s", "--within", AREA, "--cell", "1m", "--out", "o.tif")[2]
        == "did you mean ortho?"
    )
    island.add(program, "s", "/wms", "wms")
    assert "cover" in program.refuses(3, "fetch", "s", "--within", AREA, "--cell", "1m", "--out", "o.tif")[1]
    island.add(program, "s", "/wms", "wms", layer="ortho", style="painted")
    assert "plain" in program.refuses(3, "fetch", "s", "--within", AREA, "--cell", "1m", "--out", "o.tif")[1]


def test_a_service_without_cells_of_its_own_is_told_them(program: Program, island: Site) -> None:
    island.add(program, "m", "/wms", "wms", layer="ortho")
    assert "--cell" in program.refuses(3, "fetch", "m", "--within", AREA, "--out", "o.tif")[2]
    assert "--within" in program.refuses(2, "fetch", "m", "--cell", "1m", "--out", "o.tif")[2]
    program("fetch", "m", "--within", AREA, "--cell", "0.5arcsec", "--crs", "EPSG:4326", "--out", "o.tif")
    assert tifffile.imread(program.folder / "o.tif").shape[0] == math.ceil(0.0016 * 7200)


@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/xyz/912/ortho/3000000000/1/1.png", 404), ("/tms/912/ortho/3000000000/1/1.png", 404),
        ("/ogc/collections/ortho/map/tiles/WebMercatorQuad/3000000000/1/1", 404), ("/stac/search?limit=abc", 400),
        ("/stac/search?limit=-1", 400), ("/stac/search?bbox=1,2", 400), ("/stac/search?bbox=nan,1,2,3", 400),
        ("/faults?fail=nan", 400), ("/faults?fail=-1", 400), ("/faults?seconds=1e300", 400), ("/faults?asked=x", 400),
    ],
)  # fmt: skip
def test_the_stand_in_refuses_numbers_that_are_none(island: Site, path: str, status: int) -> None:
    before = dict(vars(island.faults))
    with pytest.raises(urllib.error.HTTPError) as caught:
        urllib.request.urlopen(island.address + path, timeout=20)
    assert caught.value.code == status
    assert {k: v for k, v in vars(island.faults).items() if k not in ("asked", "_chance")} == {
        k: v for k, v in before.items() if k not in ("asked", "_chance")
    }
