"""One thread, several, or processes of its own: the bytes are the same, whatever the verb, format and kind."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import depth
from points.clouds import cloud, write
from rasters import frame, random_cells, raster, save
from zembrel.engine.executor import Processes
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.opened.calls import call
from zembrel.points.records import Layout

AREA = "730100,5098800,731500,5099800"
HEAD = '{"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32626"}}, "features": ['
ENDINGS = {
    "photo.tif": ("o.tif", "o.png", "o.jpg", "o.webp", "o.bmp", "o.jp2", "o.npy", "o.npz", "o.csv", "o.parquet",
                  "o.bip", "o.raw", "o.nc", "o.zarr", "o.zarr.zip"),
    "relief.tif": ("o.asc", "o.matrix.csv", "o.flt", "o.xyz", "o.bsq"),
    "geoid.tif": ("o.gtx",),
    "codes.tif": ("o.gif", "o.tif"),
    "cell.tif": ("N46W024.hgt", "N46W024.dt1"),
    "points.laz": ("o.las", "o.laz", "o.copc.laz", "o.ply", "o.csv", "o.xyz", "o.parquet"),
}  # fmt: skip
OFTEN = [("convert", source, out, {}) for source, out in (
    ("photo.tif", "o.png"), ("photo.tif", "o.jpg"), ("photo.tif", "o.zarr"), ("relief.tif", "o.asc"),
    ("cell.tif", "N46W024.hgt"), ("points.laz", "o.copc.laz"), ("points.laz", "o.las"),
)]  # fmt: skip
FORMATS = [("convert", source, out, {}) for source, names in ENDINGS.items() for out in names]
VERBS: list[tuple[str, Any, str, dict[str, Any]]] = [
    ("mosaic", ["photo.tif", "other.tif"], "o.tif", {"overlap": "feather:200m"}),
    ("mosaic", ["photo.tif", "other.tif"], "o.tif", {"trim_collar": True, "method": "cubic", "cell": "13m"}),
    ("stack", ["relief.tif", "codes.tif"], "o.tif", {}),
    ("clip", "photo.tif", "o.tif", {"within": "wood.geojson", "feather": "30m"}),
    ("clip", "wood.geojson", "o.gpkg", {"within": AREA}),
    ("clip", "points.laz", "o.laz", {"within": "730020,5100020,730070,5100080"}),
    ("tile", "photo.tif", "o/", {"split": "2x2"}),
    ("tile", "points.laz", "o/", {"size": "40m", "margin": "5m"}),
    ("mask", "relief.tif", "o.tif", {"where": "value < 300"}),
    ("fill", "relief.tif", "o.tif", {"reach": "5"}),
    ("resample", "relief.tif", "o.tif", {"cell": "27m", "method": "median"}),
    ("reproject", "photo.tif", "o.tif", {"crs": "EPSG:3857", "method": "lanczos"}),
    ("reproject", "points.laz", "o.laz", {"crs": "EPSG:3857"}),
    ("convert", "photo.tif", "o.tif", {"palette": "16", "compress": "zstd"}),
    ("convert", "relief.tif", "o.tif", {"stretch": "2%,98%", "set": ["strip=40"]}),
    ("convert", "relief.tif", "o.tif", {"type": "int16", "scaled": "auto"}),
    ("paint", "relief.tif", "o.tif", {"shade": True}),
    ("terrain", "relief.tif", "o.tif", {"of": ("slope", "aspect", "curvature", "position"), "reach": "5", "z_unit": "m"}),
    ("derive", "relief.tif", "o.tif", {"formula": ("deviation_around(value, 2) / value", "value > 100")}),
    ("classify", "relief.tif", "o.tif", {"classes": "natural:4", "min_cells": 9}),
    ("classify", "relief.tif", "o.tif", {"rule": ("low: value < 200", "7 high: value > 400")}),
    ("terrain", "relief.tif", "o.tif", {"of": ("hillshade",), "sun": ("120,20", "200,50"), "cast": True}),
    ("thin", "points.laz", "o.laz", {"cell": "3m"}),
    ("thin", "points.laz", "o.laz", {"spacing": "2m"}),
    ("ground", "points.laz", "o.laz", {"cell": 2.0, "window": 12.0}),
    ("grid", "points.laz", "o.tif", {"cell": "2m", "stat": ("mean", "count")}),
    ("grid", "points.laz", "o.tif", {"cell": "2m", "stat": ("median",)}),
    ("grid", "points.laz", "o.tif", {"cell": "1m", "surface": "tin", "spikes": "20m"}),
    ("grid", "points.laz", "o.tif", {"cell": "2m", "surface": "idw", "fill": "4m"}),
    ("grid", "points.laz", "o.tif", {"cell": "2m", "products": "terrain,surface,canopy"}),
    ("rasterize", "wood.geojson", "o.tif", {"onto": "relief.tif", "field": "v"}),
    ("rasterize", "wood.geojson", "o.tif", {"onto": "relief.tif", "cover": True}),
    ("polygonize", "codes.tif", "o.gpkg", {"min_cells": 3, "smooth": True}),
    ("polygonize", "codes.tif", "o.geojson", {"dissolve": True}),
    ("contour", "relief.tif", "o.gpkg", {"interval": 400.0, "smooth": True}),
    ("contour", "relief.tif", "o.geojson", {"classes": 4, "filled": True}),
    ("trace", "codes.tif", "o.geojson", {"background": 3.0}),
    ("centroids", "codes.tif", "o.parquet", {}),
    ("sample", "relief.tif", "o.csv", {"at": "places.geojson", "method": "mean", "reach": "40m"}),
    ("tally", "relief.tif", "o.gpkg", {"zones": "wood.geojson", "stat": ("mean", "median", "max")}),
    ("tally", "wood.geojson", "o.tif", {"onto": "relief.tif"}),
    ("deliver pyramid", "photo.tif", "o.mbtiles", {"zooms": "14-17"}),
    ("deliver pyramid", "codes.tif", "o.pmtiles", {"zooms": "12-16"}),
    ("deliver pyramid", "relief.tif", "o.zip", {"zooms": "15", "heights": "grey"}),
    ("deliver chips", "photo.tif", "o.tfrecord", {"labels": "codes.tif", "cells": 24, "validation": 0.3}),
    ("deliver film", ("photo.tif", "other.tif"), "o.gif", {"size": 100, "fade": 2}),
    ("deliver chart", "photo.tif", "o.kap", {}),
    ("deliver globe", "photo.tif", "o.kmz", {"levels": 3}),
    ("deliver heightmap", "relief.tif", "o", {"overlay": ("photo.tif",), "size": 65, "overlay_size": 700}),
]  # fmt: skip


@pytest.fixture(scope="module")
def pool() -> Iterator[Processes]:
    processes = Processes(2, 5)
    yield processes
    processes.close()


@pytest.fixture(scope="module")
def inputs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Small files of each kind, of many blocks each."""
    here = tmp_path_factory.mktemp("everywhere")
    rough = random_cells(150, 190, kind="float32", seed=3)
    photo = random_cells(3, 150, 190)
    photo[:, :, :9] = 255
    save(here / "photo.tif", raster(photo), tile="32")
    moved = frame(190, 150, left=731_000)
    save(here / "other.tif", raster(random_cells(3, 150, 190, seed=2), where=moved), tile="32")
    save(here / "relief.tif", raster(rough, rough < 1500, nodata=-9999.0), tile="32")
    codes = np.kron(random_cells(50, 64, seed=4) % 4, np.ones((3, 3), np.uint8)).astype(np.uint8)[:, :190]
    save(here / "codes.tif", raster(codes), tile="32")
    write(here / "points.laz", cloud(6000, Layout(7), red=np.arange(6000), **{"class": 2}), chunk=500)
    woods = [
        {"type": "Feature", "properties": {"v": n}, "geometry": {"type": "Polygon", "coordinates": [[
            [x, 5_098_500], [x + 100, 5_099_900], [x + 350, 5_099_700], [x, 5_098_500]]]}}
        for n, x in enumerate(range(730_050, 731_800, 250))
    ]  # fmt: skip
    (here / "wood.geojson").write_text(HEAD + json.dumps(woods)[1:] + "}")
    at = np.random.default_rng(5).uniform((730_000, 5_098_600), (731_800, 5_099_900), (80, 2))
    places = [
        {"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": place}}
        for place in at.tolist()
    ]
    (here / "places.geojson").write_text(HEAD + json.dumps(places)[1:] + "}")
    degrees = Frame(by_code(4326), Affine(-24.0, 47.0, 1 / 1200, -1 / 1200), 1200, 1200)
    heights = np.add.outer(np.arange(1200), np.arange(1200)).astype(np.int16)
    save(here / "cell.tif", raster(heights, where=degrees), tile="256")
    save(here / "geoid.tif", raster(rough, where=Frame(by_code(4326), Affine(-24, 47, 0.1, -0.1), 190, 150)))
    return here


def content(folder: Path) -> dict[str, str]:
    return {
        str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("[!.]*"))  # hidden: which run it was
        if path.is_file()
    }


@pytest.mark.parametrize("widely", depth.some([False, True], [False]), ids=["suite", "all"])
@pytest.mark.parametrize(
    "verb, source, out, options",
    depth.some(FORMATS, OFTEN) + depth.some(VERBS, VERBS[::4]),
    ids=lambda v: str(v).replace("/", "_")[:40],
)
def test_bytes_do_not_depend_on_who_works(
    inputs: Path,
    tmp_path: Path,
    pool: Processes,
    monkeypatch: pytest.MonkeyPatch,
    verb: str,
    source: Any,
    out: str,
    options: dict[str, Any],
    widely: bool,
) -> None:
    monkeypatch.chdir(inputs)
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1800000000")
    if source == "cell.tif":
        verb = "mosaic"
    found = []
    others = ({"workers": 2}, {"workers": 7}, {"executor": pool}) if widely else ({"executor": pool},)
    for number, means in enumerate(({"workers": 1}, *others)):
        folder = tmp_path / str(number)
        folder.mkdir()
        target = f"{folder}/{out}"
        call(verb, source, target, **options, **means)
        found.append(content(folder))
    assert found[0] and all(other == found[0] for other in found[1:])
