"""What `--json` prints has one documented shape, whatever the verb."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from conftest import Shared
from program import Program, Said, listing
from zembrel.verbtable import VERBS

SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "receipt.schema.json").read_text())
RUNS: dict[str, tuple[str, ...]] = {
    "describe": ("relief.tif", "--stats"), "index": ("ortho", "--out", "i.gpkg"), "formats": (),
    "label": ("again.tif", "--nodata", "0"), "frame": ("relief.tif", "--out", "f.frame.toml"),
    "crs": ("find", "UTM zone 26N"), "coords": ("--from-crs", "EPSG:4326", "--crs", "EPSG:32626"),
    "pin": ("sketch.png", "--ties", "sketch-ties.csv", "--crs", "EPSG:32626", "--out", "pin.tif"),
    "mosaic": ("dem", "--out", "m.tif"), "stack": ("relief.tif", "again.tif", "--out", "s.tif"),
    "clip": ("relief.tif", "--within", "coast.geojson", "--out", "c.tif"),
    "tile": ("relief.tif", "--split", "2x2", "--index", "t.gpkg", "--out", "t/"),
    "mask": ("relief.tif", "--where", "value < 1", "--out", "k.tif"),
    "fill": ("relief.tif", "--reach", "2", "--out", "l.tif"),
    "resample": ("relief.tif", "--cell", "50m", "--out", "r.tif"),
    "reproject": ("ortho", "--crs", "EPSG:3857", "--longest", "50", "--out", "rp/"),
    "convert": ("coast.geojson", "--out", "c.gpkg"), "thin": ("lidar/l1.laz", "--every", "9", "--out", "t.laz"),
    "ground": ("lidar/l1.laz", "--out", "g.laz"),
    "grid": ("lidar/l1.laz", "--cell", "5m", "--out", "g.tif"), "terrain": ("relief.tif", "--of", "slope", "--out", "te.tif"),
    "derive": ("--let", "r=relief.tif", "--formula", "r > 3", "--out", "dv.tif"),
    "classify": ("relief.tif", "--above", "3", "--out", "cl.tif"),
    "paint": ("relief.tif", "--out", "p.tif"),
    "rasterize": ("coast.geojson", "--onto", "relief.tif", "--out", "ra.tif"),
    "polygonize": ("codes.tif", "--min-cells", "20", "--out", "po.gpkg"),
    "contour": ("relief.tif", "--interval", "200", "--out", "co.gpkg"),
    "trace": ("high.tif", "--background", "0", "--out", "tr.gpkg"),
    "centroids": ("codes.tif", "--out", "ce.parquet"),
    "sample": ("relief.tif", "--at", "places.geojson", "--out", "sa.csv"),
    "tally": ("relief.tif", "--zones", "parcels.geojson", "--repair", "--stat", "mean", "--out", "ta.gpkg"),
    "profile": ("relief.tif", "--along", "corners", "--table", "pr.csv"),
    "compare": ("relief.tif", "again.tif"), "check": ("relief.tif",), "draw": ("relief.tif", "--out", "d.png"),
    "source": ("list",), "run": ("j.job.toml",), "receipt": ("done.job.toml", "--out", "j.html"), "shell": ("bash",),
    "fetch": ("relief", "--onto", "codes.tif", "--out", "fe.tif"),
    "deliver pyramid": ("codes.tif", "--zooms", "11", "--out", "p.pmtiles"),
    "deliver globe": ("codes.tif", "coast.geojson", "--out", "g.kmz"),
    "deliver chart": ("codes.tif", "--out", "ch/"),
    "deliver heightmap": ("relief.tif", "--size", "65", "--out", "hm/"),
    "standin device": ("engine", "terrain"), "deliver carry": ("terrain", "--carry-to", "dem", "--device", "engine"),
    "deliver chips": ("codes.tif", "--cells", "32", "--out", "chips/"),
    "deliver film": ("dem", "--size", "64", "--out", "f.mp4"),
    "deliver hgt": ("relief.tif", "--cell", "3arcsec", "--out", "hgt/"),
}  # fmt: skip
# words that are refused, and the exit code; of the other verbs an input that is not there
REFUSED: dict[str, tuple[int, tuple[str, ...]]] = {
    "formats": (2, ("geotif",)), "crs": (2, ("seek", "UTM")), "coords": (3, ("--from-crs", "EPSG:4326", "--crs", "here")),
    "source": (3, ("show", "none")), "fetch": (3, ("none", "--onto", "codes.tif", "--out", "x.tif")),
    "shell": (2, ("tcsh",)), "demo": (4, ("--out", "relief.tif")), "warm": (2, ("--workers", "many")),
    "standin serve": (3, ("dem",)), "standin device": (3, ("engine", "none")),
    "derive": (3, ("--let", "r=none.tif", "--formula", "r > 3", "--out", "x.tif")),
}  # fmt: skip


@pytest.fixture(scope="module")
def island(shared: Shared, marrowick: Path) -> Path:
    """A small part of the demo data, and results for the verbs that go on from one. Read only."""

    def fill(folder: Path) -> None:
        here = Program(folder)
        for name in (
            "lidar",
            "coast.geojson",
            "places.geojson",
            "parcels.geojson",
            "sketch.png",
            "sketch-ties.csv",
        ):
            (folder / name).symlink_to(marrowick / name)
        area = ("--within", "square:732500,5099000,600", "--quiet", "--out")
        for n in (1, 3):
            here(
                "resample",
                marrowick / f"dem/r{n}.tif",
                "--cell",
                "20m",
                "--out",
                f"dem/d{n}_2026-0{n}-01.tif",
            )
        here("mosaic", marrowick / "dem", "--cell", "10m", *area, "relief.tif")
        here("convert", "relief.tif", "--out", "again.tif")
        here("clip", marrowick / "landcover.tif", *area, "codes.tif")
        here("derive", "--let", "r=relief.tif", "--formula", "r > 512", "--out", "high.tif")
        for n in (1, 4):
            here("resample", marrowick / f"ortho/m{n}.tif", "--cell", "20m", "--out", f"ortho/m{n}.tif")
        here("source", "add", "relief", "../relief.tif", "--kind", "file")
        here("deliver", "heightmap", "relief.tif", "--size", "65", "--out", "terrain/")
        for name in ("j", "done"):
            step = f'[[step]]\nid="a"\nverb="resample"\ninputs="relief.tif"\ncell="90m"\nout="{name}.tif"\n'
            (folder / f"{name}.job.toml").write_text(step)
        here("run", "done.job.toml")

    return shared("receipts", fill)


@pytest.fixture
def desk(zembrel: Program, island: Path) -> Program:
    """A folder with these files."""
    shutil.copytree(island, zembrel.folder, symlinks=True, dirs_exist_ok=True)
    return zembrel


def runner(desk: Program, verb: str) -> Callable[..., Said]:
    """What runs a verb: a process of the installed program for every third one, and for all in `make lowest`."""
    apart = "ZEMBREL_PROGRAM" in os.environ or [*VERBS].index(verb) % 3 == 0
    return desk.apart if apart else desk


def test_every_verb_is_here() -> None:
    assert set(RUNS) | {"warm", "demo", "standin serve"} == set(
        VERBS
    )  # run by make test, and by tests of theirs


@pytest.mark.parametrize("verb", RUNS)
def test_a_receipt_has_the_documented_shape_and_a_full_record(desk: Program, verb: str) -> None:
    given = RUNS[verb]
    said = runner(desk, verb)(*verb.split(), *given, "--json", stdin="-24,46").json
    check_receipt(verb, given, said)
    if verb == "coords":
        (line,) = said["lines"]
        assert line.startswith("732293.358")


def test_the_receipt_of_the_demo_is_like_others(marrowick: Path) -> None:
    check_receipt("demo", ("--data-only",), json.loads((marrowick.parent / "demo.json").read_text()))


def check_receipt(verb: str, given: tuple[str, ...], said: Any) -> None:
    jsonschema.validate(said, SCHEMA, format_checker=jsonschema.FormatChecker())
    assert said["verb"] == verb and said["record"]["version"]
    paths = {Path(entry["path"]).name for entry in said["record"]["read"]}
    words = given[: given.index("--out")] if "--out" in given else given
    named = {
        Path(word.rpartition("=")[2]).name
        for word in words
        if Path(word).suffix in (".tif", ".laz", ".las", ".geojson")
    }
    assert named <= paths, "every file that an option names was read, and is in the record"
    flags = {word[2:].replace("-", "_") for word in given if word.startswith("--")}
    assert flags - {"crs"} <= set(said["record"]["options"]), "the record says what was asked for"


@pytest.mark.parametrize("verb", VERBS)
def test_each_verb_refuses_in_three_lines_and_leaves_nothing(desk: Program, verb: str) -> None:
    code, words = REFUSED.get(verb) or (3, ("none.tif", *RUNS[verb][1:]))
    before = listing(desk.folder)
    said = runner(desk, verb)(*verb.split(), *words, code=code)
    assert [line[:7] for line in said.err.splitlines()] == ["error: ", "why:   ", "try:   "], said.err
    assert said.out == "" and listing(desk.folder) == before


def test_a_record_holds_checksums_and_the_coordinate_operations(zembrel: Program, marrowick: Path) -> None:
    source = marrowick / "landcover.tif"
    words = ("reproject", source, "--crs", "EPSG:23030", "--longest", "50", "--out", "o.tif", "--json")
    record = zembrel(*words).json["record"]
    (read,) = record["read"]
    assert read["sha256"] == hashlib.sha256(source.read_bytes()).hexdigest()
    (move,) = [m for m in record["operations"] if m["from"].startswith("EPSG:32626") and "23030" in m["to"]]
    assert "EPSG:" in move["how"], "the datum shift is named with its code"


def test_a_failure_has_its_own_shape(zembrel: Program) -> None:
    said = zembrel("convert", "no.tif", "--out", "o.tif", "--json", code=3).json
    jsonschema.validate(said, SCHEMA)
    assert set(said) == {"error", "why", "try", "exit"}
