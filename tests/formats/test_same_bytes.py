"""The same work gives the same bytes, whenever it is done: no format gets the present time."""

from __future__ import annotations

import os
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

import depth
from engine.test_everywhere import FORMATS, content, inputs  # noqa: F401  a fixture
from points.clouds import cloud, write
from program import Program
from rasters import frame, random_cells, raster, save
from zembrel.clock import time_of_writing
from zembrel.errors import UsageError
from zembrel.features.files.catalogue import FEATURE_FORMATS
from zembrel.opened.calls import call

Case = tuple[str, Any, str, dict[str, Any]]
HELD: list[Case] = [  # formats in which a time stands, or that are archives
    ("convert", "wood.geojson", "o.kmz", {}), ("convert", "wood.geojson", "o.gpkg", {}), ("convert", "wood.geojson", "o.shp", {}),
    ("convert", "photo.tif", "o.nc", {}), ("convert", "photo.tif", "o.zarr.zip", {}), ("convert", "photo.tif", "o.npz", {}),
    ("convert", "points.laz", "o.laz", {}), ("convert", "points.laz", "o.copc.laz", {}), ("convert", "points.laz", "o.parquet", {}),
    ("deliver pyramid", "photo.tif", "o.zip", {"zooms": "14"}), ("deliver pyramid", "photo.tif", "o.gpkg", {"zooms": "14"}),
    ("deliver pyramid", "photo.tif", "o.mbtiles", {"zooms": "14"}), ("deliver pyramid", "photo.tif", "o.pmtiles", {"zooms": "14"}),
    ("deliver globe", ("photo.tif", "wood.geojson"), "o.kmz", {"levels": 2}), ("deliver chart", "photo.tif", "o.kap", {}),
    ("deliver chart", ("photo.tif", "other.tif"), "o/", {}), ("deliver chips", "photo.tif", "o.tar", {"cells": 24}),
    ("deliver film", ("photo.tif", "other.tif"), "o.mp4", {"size": 100, "dates": None}),
    ("draw", "photo.tif", "o.svg", {}), ("draw", "photo.tif", "o.pdf", {}), ("draw", "photo.tif", "o.png", {}),
]  # fmt: skip
ENDINGS = sorted({ending for form in FEATURE_FORMATS.values() for ending in form.endings})
ALL: list[Case] = [
    *HELD,
    *(("mosaic" if case[1] == "cell.tif" else case[0], *case[1:]) for case in FORMATS),
    *(("convert", "wood.geojson", f"o{ending}", {}) for ending in ENDINGS),
    ("deliver pyramid", "photo.tif", "o", {"zooms": "14"}), ("deliver chips", "photo.tif", "o.tfrecord", {"cells": 24}),
    ("deliver film", ("photo.tif", "other.tif"), "o.gif", {"size": 100}), ("deliver film", ("photo.tif", "other.tif"), "o.webp", {"size": 100}),
    ("deliver heightmap", "relief.tif", "o", {"size": 65}), ("deliver hgt", "relief.tif", "o", {"cell": "3arcsec"}),
    ("contour", "relief.tif", "o.kml", {"interval": 400.0}),
]  # fmt: skip


@pytest.mark.parametrize("cases", depth.some([HELD[::2], ALL], [HELD[::2]]), ids=["those with times", "all"])
def test_a_writer_makes_the_same_bytes_later(
    inputs: Path,  # noqa: F811
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    cases: list[Case],
) -> None:
    monkeypatch.chdir(inputs)
    monkeypatch.delenv("SOURCE_DATE_EPOCH", raising=False)
    found: list[list[dict[str, str]]] = []
    for turn in ("first", "second"):
        began, made = time.monotonic(), []
        for n, (verb, source, out, options) in enumerate(cases):
            folder = tmp_path / turn / str(n)
            folder.mkdir(parents=True)
            call(verb, source, f"{folder}/{out}", **{k: v for k, v in options.items() if v is not None})
            made.append(content(folder))
        found.append(made)
        while turn == "first" and time.monotonic() - began < 2.5:  # archives tell even seconds
            time.sleep(0.1)
    differ = [cases[n] for n, (one, other) in enumerate(zip(*found, strict=True)) if one != other or not one]
    assert not differ


@pytest.fixture
def sheet(zembrel: Program) -> Program:
    save(zembrel.folder / "a.tif", raster(random_cells(3, 40, 50), where=frame(50, 40)))
    write(zembrel.folder / "p.las", cloud(50))
    for n, name in enumerate(("a.tif", "p.las")):
        os.utime(zembrel.folder / name, (1_700_000_000, 1_790_000_000 + 1000 * n))
    return zembrel


def dated(path: Path) -> str:
    """The date that a chart tells, read byte by byte."""
    head = path.read_bytes().partition(b"\x1a")[0].decode("latin-1")
    return next(line for line in head.splitlines() if line.startswith("CED/")).rpartition("ED=")[2]


def test_the_time_is_that_of_the_newest_input_or_the_one_that_is_asked_for(sheet: Program) -> None:
    def chart(out: str, *more: str, **environment: str) -> None:
        sheet("deliver", "chart", "a.tif", "--out", out, *more, **environment)

    chart("a.kap")
    assert dated(sheet.folder / "a.kap") == f"{datetime.fromtimestamp(1_790_000_000, UTC):%m/%d/%Y}"
    chart("b.kap", SOURCE_DATE_EPOCH="1800000000")
    assert dated(sheet.folder / "b.kap") == "01/15/2027"
    chart("c.kap", "--edition-date", "2026-05-17")
    assert dated(sheet.folder / "c.kap") == "05/17/2026"
    assert (
        "--edition-date 2027-01-31"
        in sheet.refuses(2, "deliver", "chart", "a.tif", "--edition-date", "May", "--out", "d.kap")[2]
    )


def test_without_an_input_it_is_1980_and_never_now(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("SOURCE_DATE_EPOCH", raising=False)
    assert time_of_writing() == datetime(1980, 1, 1, tzinfo=UTC)
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "soon")
    with pytest.raises(UsageError, match="SOURCE_DATE_EPOCH"):
        time_of_writing()
