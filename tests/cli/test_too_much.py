"""What is far too much is refused at once: nothing is listed or read piece by piece before."""

from __future__ import annotations

import json
import time
from pathlib import Path

import numpy as np
import pytest

import depth
from program import Program
from rasters import frame, raster, save

FINE = ("--cell", "0.00001m")
SECONDS = 10  # much more than any of these takes, much less than a list of a billion pieces


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Program:
    folder: Path = tmp_path_factory.mktemp("too_much")
    rows, columns = np.mgrid[:300, :300]
    save(folder / "dem.tif", raster((rows + columns).astype(np.float32), where=frame(300, 300)))
    save(
        folder / "photo.tif", raster(np.stack([rows, columns, rows]).astype(np.uint8), where=frame(300, 300))
    )
    save(folder / "codes.tif", raster((rows % 4).astype(np.uint8), where=frame(300, 300)))
    corners = [[-24.0, 46.0], [-24.0, 46.01], [-23.99, 46.01], [-24.0, 46.0]]
    area = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [corners]}}
    (folder / "area.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [area]}))
    (folder / "p.csv").write_text("x,y,z\n730000,5100000,1\n730100,5100100,2\n730002,5100050,4\n")
    return Program(folder)


@pytest.mark.parametrize("plan", depth.some(["", "--dry-run"], ["--dry-run"]))
@pytest.mark.parametrize(
    "words",
    [
        ("resample", "dem.tif", *FINE, "--out", "o.tif"), ("reproject", "dem.tif", "--crs", "EPSG:3857", *FINE, "--out", "o.tif"),
        ("clip", "dem.tif", "--within", "730000,5099800,730100,5099900", *FINE, "--out", "o.tif"), ("mosaic", "dem.tif", *FINE, "--out", "o.tif"),
        ("stack", "dem.tif", "dem.tif", *FINE, "--out", "o.tif"), ("rasterize", "area.geojson", "--cell", "1e-9", "--out", "o.tif"),
        ("tally", "area.geojson", "--cell", "1e-9", "--out", "o.tif"), ("contour", "dem.tif", "--interval", "1e-9", "--out", "o.geojson"),
        ("grid", "p.csv", "--from-crs", "EPSG:32626", *FINE, "--out", "o.tif"),
        ("deliver", "pyramid", "photo.tif", "--zooms", "0-26", "--out", "o.mbtiles"), ("deliver", "chips", "photo.tif", *FINE, "--out", "o/"),
        ("deliver", "chips", "photo.tif", "--labels", "codes.tif", *FINE, "--sampling", "balanced", "--count", "9", "--out", "o/"),
        ("deliver", "globe", "photo.tif", "--ceiling", "1kB", "--out", "o.kmz"), ("deliver", "heightmap", "dem.tif", "--size", "65537", "--ceiling", "1GB", "--out", "o/"),
    ],
    ids=lambda words: "-".join(word for word in words if word.isalpha()),
)  # fmt: skip
def test_what_is_far_too_much_is_refused_at_once(scene: Program, words: tuple[str, ...], plan: str) -> None:
    began = time.monotonic()
    scene.refuses(4, *words, *plan.split())
    assert time.monotonic() - began < SECONDS


def test_few_chips_of_very_many_are_drawn_at_once(scene: Program) -> None:
    began = time.monotonic()
    scene("deliver", "chips", "photo.tif", *FINE, "--cells", "16", "--count", "5", "--out", "few/")
    assert len(list(scene.folder.glob("few/**/*.tif"))) == 5 and time.monotonic() - began < SECONDS
