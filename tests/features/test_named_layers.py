"""A layer of a GeoPackage by name in every option that takes features; several without a name are refused."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import shapely
import tifffile

from points.clouds import cloud, write
from program import Program
from rasters import frame, raster, save

WEST, SOUTH = 730_000, 5_099_000


def box(x0: int, y0: int, x1: int, y1: int) -> shapely.Geometry:
    return shapely.box(WEST + x0, SOUTH + y0, WEST + x1, SOUTH + y1)


LAYERS = {
    "all": [box(0, 0, 1000, 1000)], "zones": [box(100, 100, 300, 300), box(500, 500, 900, 900)],
    "spots": [shapely.Point(WEST + 205, SOUTH + 205), shapely.Point(WEST + 805, SOUTH + 305)],
    "ways": [shapely.LineString([(WEST + 5, SOUTH + 505), (WEST + 955, SOUTH + 505)])],
}  # fmt: skip


@pytest.fixture
def isle(zembrel: Program) -> Program:
    """A raster of row numbers, points, and a GeoPackage of four layers, each unlike the first."""
    cells = np.repeat(np.arange(100)[:, None], 100, axis=1).astype(np.int16)
    save(zembrel.folder / "r.tif", raster(cells, where=frame(100, 100, cell=10.0, top=SOUTH + 1000)))
    for name, shapes in LAYERS.items():
        features = [
            {"type": "Feature", "properties": {"n": n}, "geometry": json.loads(shapely.to_geojson(shape))}
            for n, shape in enumerate(shapes, 1)
        ]
        crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32626"}}
        text = json.dumps({"type": "FeatureCollection", "crs": crs, "features": features})
        (zembrel.folder / f"{name}.geojson").write_text(text)
        zembrel("convert", f"{name}.geojson", "--into", name, "--out", "areas.gpkg")
    return zembrel


CALLS = {
    "zones": ("tally", "r.tif", "--zones", "{}", "--stat", "count", "--out", "{out}/o.csv"),
    "within": ("clip", "r.tif", "--within", "{}", "--out", "{out}/o.tif"),
    "by": ("tile", "r.tif", "--by", "{}", "--out", "{out}/"),
    "labels": (
        "deliver",
        "chips",
        "r.tif",
        "--cells",
        "20",
        "--labels",
        "{}",
        "--field",
        "n",
        "--out",
        "{out}/",
    ),
    "at": ("sample", "r.tif", "--at", "{}", "--out", "{out}/o.csv"),
    "along": ("profile", "r.tif", "--along", "{}", "--table", "{out}/o.csv"),
}
MEANT = {"at": "spots", "along": "ways"}


def cells_in(folder: Path) -> dict[str, Any]:
    """What a call wrote: text, and cells of rasters."""
    files = sorted(path for path in folder.rglob("*") if path.suffix in (".csv", ".tif"))
    return {
        str(path.relative_to(folder)): path.read_text()
        if path.suffix == ".csv"
        else tifffile.imread(path).tolist()
        for path in files
    }


@pytest.mark.parametrize("option", CALLS)
def test_a_layer_is_taken_by_its_name_and_many_without_one_are_refused(isle: Program, option: str) -> None:
    layer = MEANT.get(option, "zones")
    for folder in ("alone", "named", "many") if option != "labels" else ():
        (isle.folder / folder).mkdir()

    def call(given: str, out: str) -> list[str]:
        return [word.format(given, out=out) for word in CALLS[option]]

    isle(*call(f"{layer}.geojson", "alone"))
    isle(*call(f"areas.gpkg:{layer}", "named"))
    alone = cells_in(isle.folder / "alone")
    assert alone and cells_in(isle.folder / "named") == alone
    told = isle.refuses(3, *call("areas.gpkg", "many"))
    assert "4 layers" in told[0] and "all" in told[1] and layer in told[1] and "areas.gpkg:" in told[2]
    isle.refuses(3, *call("areas.gpkg:nowhere", "many"))
    assert not list((isle.folder / "many").rglob("*"))


def test_a_clip_to_a_named_layer_keeps_its_ground(isle: Program) -> None:
    isle("clip", "r.tif", "--within", "areas.gpkg:zones", "--out", "o.tif")
    assert tifffile.imread(isle.folder / "o.tif").shape == (80, 80)


def test_points_are_cut_by_a_named_layer(isle: Program) -> None:
    write(isle.folder / "p.las", cloud(500))
    told = isle.refuses(3, "tile", "p.las", "--by", "areas.gpkg", "--out", "s/")
    assert "4 layers" in told[0]


@pytest.mark.parametrize("option", ["zones", "at", "along"])
def test_from_crs_goes_for_those_that_say_none(isle: Program, option: str) -> None:
    """A file that an option names and one of the inputs may each say a CRS or none."""
    layer = MEANT.get(option, "zones")
    rows = [f'"{shape.wkt}",{n}' for n, shape in enumerate(LAYERS[layer], 1)]
    (isle.folder / "silent.csv").write_text("\n".join(["wkt,n", *rows]) + "\n")
    tifffile.imwrite(isle.folder / "bare.tif", tifffile.imread(isle.folder / "r.tif"))
    (isle.folder / "bare.tfw").write_text(f"10\n0\n0\n-10\n{WEST + 5}\n{SOUTH + 995}\n")
    made = {}
    for n, (cells, shapes) in enumerate(
        [("r.tif", f"{layer}.geojson"), ("r.tif", "silent.csv"), ("bare.tif", f"{layer}.geojson"),
         ("bare.tif", "silent.csv")]
    ):  # fmt: skip
        words = [word.format(shapes, out=f"o{n}") for word in CALLS[option]]
        words[words.index("r.tif")] = cells
        (isle.folder / f"o{n}").mkdir()
        told = ("--from-crs", "EPSG:32626") if n else ()
        if n and option != "along":
            assert "--from-crs" in isle.refuses(3, *words)[2]
        isle(*words, *told)
        made[n] = [line.split(",")[-1] for line in (isle.folder / f"o{n}/o.csv").read_text().splitlines()[1:]]
    assert made[0] == made[1] == made[2] == made[3] and made[0]
    words = [word.format(f"{layer}.geojson", out="o0") for word in CALLS[option]]
    assert (
        "--force-crs" in isle.refuses(3, *words, "--from-crs", "EPSG:32627", "--replace")[2]
        or option == "along"
    )
