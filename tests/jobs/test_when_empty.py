"""Steps of a job that have nothing to do: they fail, are passed over, or write results that hold nothing."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from program import Program
from rasters import frame, raster, save

JOB = """
[shared]
{shared}
[matrix]
area = ["west", "east"]
[[step]]
id = "cut"
verb = "clip"
inputs = "tracks.geojson"
within = "$area.geojson"
out = "made/$area.geojson"
{own}
[[step]]
id = "places"
verb = "sample"
inputs = "photo.tif"
at = "@cut"
out = "made/$area.csv"
[[step]]
id = "globe"
verb = "deliver globe"
inputs = ["photo.tif", "@cut"]
out = "made/$area.kmz"
[[step]]
id = "all"
verb = "mosaic"
inputs = "@cut*"
out = "made/all.geojson"
"""


def layer(*geometries: dict[str, Any]) -> str:
    features = [{"type": "Feature", "properties": {"n": n}, "geometry": g} for n, g in enumerate(geometries)]
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32626"}}
    return json.dumps({"type": "FeatureCollection", "crs": crs, "features": features})


def square(west: float) -> dict[str, Any]:
    east, south, north = west + 1_000, 5_098_000, 5_100_000
    ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
    return {"type": "Polygon", "coordinates": [ring]}


def at(x: float) -> dict[str, Any]:
    return {"type": "Point", "coordinates": [x, 5_099_000]}


@pytest.fixture
def desk(zembrel: Program) -> Program:
    """A photo of two areas, of which the western one has two places."""
    rows, columns = np.mgrid[:200, :200]
    cells = np.stack([rows, columns, rows]).astype(np.uint8)
    save(zembrel.folder / "photo.tif", raster(cells, where=frame(200, 200)))
    (zembrel.folder / "tracks.geojson").write_text(layer(at(730_200), at(730_400)))
    (zembrel.folder / "west.geojson").write_text(layer(square(730_000)))
    (zembrel.folder / "east.geojson").write_text(layer(square(731_000)))
    return zembrel


def run(desk: Program, *words: str, shared: str = "", own: str = "", code: int | None = 0) -> Any:
    (desk.folder / "j.job.toml").write_text(JOB.format(shared=shared, own=own))
    said = desk("run", "j.job.toml", "--json", *words, code=code).json
    return {step["id"]: step["state"] for step in said["steps"]} if "steps" in said else said


def files(folder: Path) -> set[str]:
    return {path.name for path in (folder / "made").glob("*")}


@pytest.mark.parametrize("where", ["shared", "own"])
def test_what_has_nothing_to_do_is_passed_over_with_what_needs_it_alone(desk: Program, where: str) -> None:
    skipping = {where: 'when-empty = "skip"'}
    assert run(desk, **skipping) == {
        "cut[west]": "ran", "cut[east]": "empty", "places[west]": "ran", "places[east]": "empty",
        "globe[west]": "ran", "globe[east]": "ran", "all": "ran",
    }  # fmt: skip
    assert files(desk.folder) == {
        "west.geojson",
        "west.csv",
        "west.prj",
        "west.kmz",
        "east.kmz",
        "all.geojson",
    }
    listed = json.loads((desk.folder / "made" / "all.geojson").read_text())["features"]
    assert len(listed) == 2, "those of the layer that was made"
    with zipfile.ZipFile(desk.folder / "made" / "east.kmz") as packed:
        assert not [name for name in packed.namelist() if name.startswith("f")]
    again = run(desk, **skipping)
    assert (
        set(again.values()) == {"unchanged", "empty"}
        and again["cut[east]"] == again["places[east]"] == "empty"
    )
    plan = run(desk, "--dry-run", **skipping)
    assert plan == again
    (desk.folder / "tracks.geojson").write_text(layer(at(730_200), at(730_400), at(731_300)))
    found = run(desk, **skipping)
    assert {found[id] for id in ("cut[east]", "places[east]", "globe[east]", "all")} == {"ran"}
    assert {"east.geojson", "east.csv"} <= files(desk.folder)
    assert set(run(desk, **skipping).values()) == {"unchanged"}


def test_a_step_that_has_nothing_to_do_any_more_leaves_what_it_made(desk: Program) -> None:
    run(desk, own='when-empty = "skip"')
    (desk.folder / "tracks.geojson").write_text(layer(at(731_300)))
    assert run(desk, own='when-empty = "skip"')["cut[west]"] == "empty"
    assert "west.geojson" in files(desk.folder)
    assert "made/west.geojson" in desk("run", "j.job.toml", "--dry-run").err


def test_it_fails_unless_said_otherwise(desk: Program) -> None:
    for own in ("", 'when-empty = "fail"'):
        said = run(desk, own=own, code=3)
        assert "cut[east]" in said["error"] and "no feature lies" in said["error"]


def test_a_layer_that_holds_nothing_is_written_if_asked_for(desk: Program) -> None:
    found = run(desk, "--only", "cut", own='when-empty = "write"', code=None)
    assert found == {"cut[west]": "ran", "cut[east]": "ran"}
    assert json.loads((desk.folder / "made" / "east.geojson").read_text())["features"] == []


@pytest.mark.parametrize(
    ("own", "wrong"), [('when-empty = "skpi"', "did you mean skip"), ("when-empty = true", "known are")]
)
def test_what_it_may_be_is_told_before_anything_runs(desk: Program, own: str, wrong: str) -> None:
    said = run(desk, own=own, code=3)
    assert "line 12" in said["error"] and wrong in said["try"] and not files(desk.folder)


def test_a_verb_that_never_writes_nothing_cannot_be_told_to(desk: Program) -> None:
    text = '[[step]]\nid = "a"\nverb = "draw"\ninputs = "tracks.geojson"\nout = "o.png"\n'
    (desk.folder / "k.job.toml").write_text(text + 'when-empty = "write"\n')
    assert "line 6" in desk.refuses(3, "run", "k.job.toml")[0]


def test_a_globe_without_features_in_the_area_says_so(desk: Program) -> None:
    said = desk(
        "deliver", "globe", "photo.tif", "tracks.geojson", "--within", "east.geojson", "--out", "g.kmz"
    ).err
    assert "nothing there in tracks" in said
