"""Inputs are found and opened once, areas are read once, and what may not be replaced is refused before any pass."""

from __future__ import annotations

import shutil
import sys
import zipfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from points.clouds import cloud, write
from program import Program
from rasters import random_cells, raster, save
from zembrel.opened.calls import call
from zembrel.points.records import Layout

HEAD = '{"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32626"}}, "features": ['
WOOD = HEAD + (
    '{"type": "Feature", "properties": {"v": 1}, "geometry": {"type": "Polygon", "coordinates": '
    "[[[730050, 5099600], [730300, 5099900], [730500, 5099500], [730050, 5099600]]]}}]}"
)
_watched: Counter[str] | None = None


def _count(event: str, arguments: Any) -> None:
    if _watched is not None and event == "open" and isinstance(arguments[0], str | Path):
        _watched[Path(arguments[0]).name] += 1


sys.addaudithook(_count)


@pytest.fixture
def opens(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Counter[str]]:
    """How often each file is opened, by its name, as the interpreter itself tells."""
    global _watched
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(
        "zembrel.provenance.checksum_of", lambda path: ""
    )  # for which a file is read once more
    _watched = Counter()
    yield _watched
    _watched = None


@pytest.fixture
def three(tmp_path: Path) -> Path:
    """Three sheets, also in an archive, a cloud and an area."""
    for n in range(3):
        save(tmp_path / f"s{n}.tif", raster(random_cells(60, 60, seed=n)))
    write(tmp_path / "p.laz", cloud(2000, Layout(6)))
    (tmp_path / "wood.geojson").write_text(WOOD)
    with zipfile.ZipFile(tmp_path / "sheets.zip", "w") as packed:
        for n in range(3):
            packed.write(tmp_path / f"s{n}.tif", f"survey/s{n}.tif")
    for name in ("p.laz", "wood.geojson"):
        with zipfile.ZipFile(tmp_path / f"{name}.zip", "w") as packed:
            packed.write(tmp_path / name, name)
    return tmp_path


@pytest.mark.parametrize(
    "verb, source, options",
    [
        ("describe", "sheets.zip", {"stats": True}), ("index", "sheets.zip", {"out": "i.gpkg"}),
        ("mosaic", "sheets.zip", {"out": "m.tif"}), ("stack", "sheets.zip", {"out": "t.tif"}),
        ("clip", "sheets.zip", {"out": "c/", "within": "wood.geojson"}),
        ("tile", "sheets.zip", {"out": "t/", "split": "2x2"}),
        ("convert", "sheets.zip", {"out": "p/", "format": "png"}),
        ("reproject", "sheets.zip", {"out": "r/", "crs": "EPSG:3857"}),
        ("resample", "sheets.zip", {"out": "s/", "cell": "20m"}),
        ("convert", "wood.geojson.zip", {"out": "w.gpkg"}), ("describe", "wood.geojson.zip", {}),
        ("rasterize", "wood.geojson.zip", {"out": "w.tif", "cell": "10m"}),
        ("convert", "p.laz.zip", {"out": "p.las"}), ("grid", "p.laz.zip", {"out": "g.tif", "cell": "5m"}),
        ("draw", "p.laz.zip", {"out": "p.png"}),
    ],
)  # fmt: skip
def test_an_archive_is_opened_once(
    three: Path, opens: Counter[str], verb: str, source: str, options: dict[str, Any]
) -> None:
    call(verb, source, **options)
    assert opens[source] == 1


@pytest.mark.parametrize("verb", ["clip", "resample", "reproject", "mosaic"])
@pytest.mark.parametrize("within", ["wood.geojson", "s0.tif"])
def test_an_area_is_read_once_for_all_inputs(
    three: Path, opens: Counter[str], verb: str, within: str
) -> None:
    more = {"resample": {"cell": "20m"}, "reproject": {"crs": "EPSG:3857"}}.get(verb, {})
    shutil.copy(within, area := f"area{Path(within).suffix}")
    opens.clear()
    call(verb, ["s0.tif", "s1.tif", "s2.tif"], "o.tif" if verb == "mosaic" else "o/", within=area, **more)
    assert opens[area] == 1


def spoiled(path: Path, at: float = 0.5) -> Path:
    """`path` with bytes in its middle that no codec reads."""
    data = bytearray(path.read_bytes())
    middle = int(len(data) * at)
    data[middle : middle + 400] = b"\xff" * 400
    path.write_bytes(data)
    return path


# what a verb is given, and the files that stand in its way; of each input nothing but the head can be read
COMMANDS = {
    "mosaic bad.tif other.tif": "o.tif", "mosaic bad.laz good.laz": "o.laz", "mosaic bad.gpkg wood.geojson": "o.gpkg",
    "stack bad.tif other.tif": "o.tif", "clip bad.tif --within wood.geojson": "o.tif",
    "clip bad.laz --within 730010,5100010,730050,5100050": "o.laz", "clip bad.gpkg --within wood.geojson": "o.gpkg",
    "mask bad.tif --where 'value<9'": "o.tif", "fill bad.tif --reach 3": "o.tif",
    "tile bad.tif --split 2x2 --name s{number}": "o/s1.tif", "tile bad.laz --size 50m --name x{number}": "o/x1.laz",
    "resample bad.tif --cell 20m": "o.tif", "reproject bad.tif --crs EPSG:3857": "o.tif",
    "reproject bad.laz --crs EPSG:3857": "o.laz", "reproject bad.gpkg --crs EPSG:3857": "o.gpkg",
    "convert bad.tif --stretch 2%,98%": "o.tif", "convert bad.tif --palette 9": "o.tif",
    "convert bad.tif --type int8": "o.tif", "convert bad.tif --scaled auto": "o.tif",
    "convert bad.laz": "o.las", "convert bad.gpkg": "o.geojson", "paint bad.tif": "o.tif",
    "thin bad.laz --cell 3m": "o.laz", "thin bad.laz --spacing 2m": "o.laz", "ground bad.laz": "o.laz",
    "grid bad.laz --cell 5m": "o.tif", "grid bad.laz --cell 5m --surface tin": "o.tif",
    "rasterize bad.gpkg --cell 10m": "o.tif", "polygonize bad.tif": "o.gpkg", "contour bad.tif --classes 3": "o.gpkg",
    "trace bad.tif --background 0": "o.gpkg", "centroids bad.tif": "o.parquet",
    "sample bad.tif --at wood.geojson": "o.csv", "tally bad.tif --zones wood.geojson": "o.gpkg",
    "tally bad.gpkg --zones wood.geojson": "o.gpkg", "index bad.tif": "o.gpkg", "draw bad.tif": "o.png",
    "draw bad.laz": "o.png", "draw bad.gpkg": "o.png", "compare bad.tif other.tif": "o.png",
    "frame bad.tif": "o.frame.toml", "pin bad.tif --ties ties.csv --crs EPSG:32626": "o.tif",
    "deliver pyramid bad.tif": "o.mbtiles", "deliver pyramid bad.tif --heights grey": "o.zip",
    "deliver chart bad.tif": "o.kap", "deliver globe bad.tif": "o.kmz", "deliver globe bad.gpkg": "o.kmz", "deliver heightmap bad.tif": "o/terrain.r16", "deliver heightmap other.tif --overlay bad.tif": "o/bad.png",
    "deliver film bad.tif other.tif": "o.gif", "deliver hgt bad.tif": "o/N46W025.hgt", "deliver chips bad.tif --cells 32": "o.zarr",
}  # fmt: skip


@pytest.mark.parametrize("command", COMMANDS)
def test_what_stands_is_refused_before_a_cell_or_point_is_read(zembrel: Program, command: str) -> None:
    here, words = zembrel.folder, command.replace("'", "").split()
    cells = random_cells(200, 200)
    for name in ("bad.tif", "other.tif"):
        save(here / name, raster(cells), tile="32", overviews="no")
    spoiled(here / "bad.tif", 0.4)
    for name in ("bad.laz", "good.laz"):
        write(here / name, cloud(3000, Layout(6)), chunk=500)
    spoiled(here / "bad.laz")
    (here / "wood.geojson").write_text(WOOD)
    zembrel("convert", "wood.geojson", "--out", "bad.gpkg")
    (here / "ties.csv").write_text(
        "column,row,x,y\n0,0,730000,5100000\n9,0,730090,5100000\n0,9,730000,5099910\n"
    )
    with (here / "bad.gpkg").open("r+b") as file:  # a database whose pages after the first are none
        file.seek(4096)
        file.write(b"\xff" * (np.clip((here / "bad.gpkg").stat().st_size - 4096, 0, None)))
    way = here / COMMANDS[command]
    way.parent.mkdir(exist_ok=True)
    way.write_bytes(b"precious")
    out = f"{way.parent.name}/" if way.parent != here else way.name
    option = "--figure" if words[0] == "compare" else "--out"
    what, why, remedy = zembrel.refuses(4, *words, option, out)
    assert "exists" in what and way.read_bytes() == b"precious" and "--replace" in remedy, (what, why, remedy)
