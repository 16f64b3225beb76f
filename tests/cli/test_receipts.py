"""What `--json` prints has one documented shape, whatever the verb."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from conftest import Shared
from program import Program
from zembrel.cli.steps import VERBS

SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "receipt.schema.json").read_text())
RUNS = {
    "describe": ("relief.tif", "--stats"), "index": ("ortho", "--out", "o/i.gpkg"), "formats": (),
    "label": ("again.tif", "--nodata", "0"), "frame": ("relief.tif", "--out", "o/f.frame.toml"),
    "crs": ("find", "UTM zone 26N"), "coords": ("--from-crs", "EPSG:4326", "--crs", "EPSG:32626"),
    "pin": ("sketch.png", "--ties", "sketch-ties.csv", "--crs", "EPSG:32626", "--out", "o/pin.tif"),
    "mosaic": ("dem", "--out", "o/m.tif"), "stack": ("relief.tif", "relief.tif", "--out", "o/s.tif"),
    "clip": ("relief.tif", "--within", "coast.geojson", "--out", "o/c.tif"),
    "tile": ("relief.tif", "--split", "2x2", "--index", "o/t.gpkg", "--out", "o/t/"),
    "mask": ("relief.tif", "--where", "value < 1", "--out", "o/k.tif"),
    "fill": ("relief.tif", "--reach", "2", "--out", "o/l.tif"),
    "resample": ("relief.tif", "--cell", "50m", "--out", "o/r.tif"),
    "reproject": ("ortho", "--crs", "EPSG:3857", "--longest", "50", "--out", "o/rp/"),
    "convert": ("coast.geojson", "--out", "o/c.gpkg"), "thin": ("lidar/l1.laz", "--every", "9", "--out", "o/t.laz"),
    "ground": ("lidar/raw.las", "--from-crs", "EPSG:32626", "--out", "o/g.laz"),
    "grid": ("lidar/l1.laz", "--cell", "5m", "--out", "o/g.tif"), "terrain": ("relief.tif", "--of", "slope", "--out", "o/te.tif"),
    "derive": ("--let", "r=relief.tif", "--formula", "r > 3", "--out", "o/dv.tif"),
    "classify": ("relief.tif", "--above", "3", "--out", "o/cl.tif"),
    "paint": ("relief.tif", "--out", "o/p.tif"),
    "rasterize": ("coast.geojson", "--onto", "landcover.tif", "--out", "o/ra.tif"),
    "polygonize": ("landcover.tif", "--min-cells", "200", "--out", "o/po.gpkg"),
    "contour": ("relief.tif", "--interval", "200", "--out", "o/co.gpkg"),
    "trace": ("o/ra.tif", "--background", "0", "--out", "o/tr.gpkg"),
    "centroids": ("o/r.tif", "--out", "o/ce.parquet"),
    "sample": ("relief.tif", "--at", "places.geojson", "--out", "o/sa.csv"),
    "tally": ("relief.tif", "--zones", "parcels.geojson", "--repair", "--stat", "mean", "--out", "o/ta.gpkg"),
    "profile": ("relief.tif", "--along", "corners", "--table", "o/pr.csv"),
    "compare": ("relief.tif", "relief.tif"), "check": ("relief.tif",),
    "draw": ("relief.tif", "--out", "o/d.png"),
    "source": ("list",), "run": ("o/j.job.toml", "--keep-going"), "receipt": ("o/j.job.toml", "--out", "o/j.html"), "shell": ("bash",),
    "fetch": ("relief", "--onto", "landcover.tif", "--out", "o/fe.tif"),
    "deliver pyramid": ("landcover.tif", "--zooms", "11", "--out", "o/p.pmtiles"),
    "deliver globe": ("landcover.tif", "coast.geojson", "--out", "o/g.kmz"),
    "deliver chart": ("landcover.tif", "--out", "o/ch/"),
    "deliver heightmap": ("relief.tif", "--size", "65", "--out", "o/hm/"),
    "standin device": ("engine", "o/hm"),
    "deliver chips": ("landcover.tif", "--cells", "128", "--out", "o/chips/"),
    "deliver film": ("dem", "--size", "64", "--out", "o/f.gif"),
    "deliver hgt": ("relief.tif", "--cell", "3arcsec", "--out", "o/hgt/"),
}  # fmt: skip


@pytest.fixture(scope="module")
def told(shared: Shared, marrowick: Path) -> dict[str, Any]:
    """What each verb says of a run on the demo data."""

    def fill(folder: Path) -> None:
        program = Program(folder)
        for path in marrowick.iterdir():
            (program.folder / path.name).symlink_to(path)
        program("mosaic", "dem", "--out", "relief.tif")
        program("source", "add", "relief", "../relief.tif", "--kind", "file")
        program("convert", "relief.tif", "--out", "again.tif")
        (folder / "o").mkdir()
        (folder / "o/j.job.toml").write_text(
            '[[step]]\nid="a"\nverb="resample"\ninputs="../relief.tif"\ncell="90m"\nout="a.tif"\n'
        )
        program("convert", "relief.tif", "--out", "o/start.tif")
        runs = {
            verb: program(*verb.split(), *words, "--json", stdin="-24,46", code=None)
            for verb, words in RUNS.items()
        }
        assert not {verb: said.out for verb, said in runs.items() if said.code not in (0, 1, 2)}
        demo = json.loads((marrowick.parent / "demo.json").read_text())
        (folder / "told.json").write_text(
            json.dumps({v: said.json for v, said in runs.items()} | {"demo": demo})
        )

    told: dict[str, Any] = json.loads((shared("receipts", fill) / "told.json").read_text())
    return told


def test_every_verb_is_here() -> None:
    assert set(RUNS) | {"warm", "demo", "standin serve"} == set(VERBS)


@pytest.mark.parametrize("verb", [*RUNS, "demo"])
def test_a_receipt_has_the_documented_shape_and_a_full_record(told: dict[str, Any], verb: str) -> None:
    said = told[verb]
    jsonschema.validate(said, SCHEMA, format_checker=jsonschema.FormatChecker())
    if "error" in said:
        assert verb in ("stack", "compare"), said  # which take two rasters, and were given one twice
        return
    assert said["verb"] == verb and said["record"]["version"]
    paths = {Path(entry["path"]).name for entry in said["record"]["read"]}
    given = RUNS.get(verb, ("--data-only",))
    words = given[: given.index("--out")] if "--out" in given else given
    named = {
        Path(word.rpartition("=")[2]).name
        for word in words
        if Path(word).suffix in (".tif", ".laz", ".las", ".geojson")
    }
    assert named <= paths, "every file that an option names was read, and is in the record"
    flags = {word[2:].replace("-", "_") for word in given if word.startswith("--")}
    assert flags - {"crs"} <= set(said["record"]["options"]), "the record says what was asked for"


def test_a_record_holds_checksums_and_the_coordinate_operations(zembrel: Program, marrowick: Path) -> None:
    source = marrowick / "landcover.tif"
    words = ("reproject", source, "--crs", "EPSG:23030", "--longest", "50", "--out", "o.tif", "--json")
    record = zembrel(*words).json["record"]
    (read,) = record["read"]
    assert read["sha256"] == hashlib.sha256(source.read_bytes()).hexdigest()
    (move,) = [m for m in record["operations"] if m["from"].startswith("EPSG:32626") and "23030" in m["to"]]
    assert "EPSG:" in move["how"], "the datum shift is named with its code"


def test_lines_that_would_be_printed_are_in_the_object(told: dict[str, Any]) -> None:
    (line,) = told["coords"]["lines"]
    assert line.startswith("732293.358")


def test_a_failure_has_its_own_shape(zembrel: Program) -> None:
    said = zembrel("convert", "no.tif", "--out", "o.tif", "--json", code=3).json
    jsonschema.validate(said, SCHEMA)
    assert set(said) == {"error", "why", "try", "exit"}
