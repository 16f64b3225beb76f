"""The face for Python: files opened, verbs called, rasters that are computed when they are asked for."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

import zembrel
from rasters import frame, random_cells, raster, save
from zembrel.cli.command import command_of
from zembrel.errors import UsageError
from zembrel.grid.pane import Pane
from zembrel.jobs.signature import FLAG
from zembrel.results import verboptions
from zembrel.verbtable import VERBS, called_by
from zembrel.verbtable.record import ALL


@pytest.fixture
def here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    for n in range(2):
        save(
            tmp_path / f"in/{n}.tif",
            raster(random_cells(60, 80, seed=n), where=frame(80, 60, left=730_000 + 800 * n)),
        )
    return tmp_path


def test_importing_loads_nothing_heavy() -> None:
    code = "import sys, zembrel; print('numpy' in sys.modules, 'typer' in sys.modules); zembrel.clip; print('typer' in sys.modules)"
    said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert said.split() == ["False", "False", "False"]


def test_every_verb_of_the_command_line_that_works_on_data_is_a_function() -> None:
    aside = {
        "formats",
        "crs",
        "coords",
        "demo",
        "warm",
        "source",
        "standin device",
        "standin serve",
        "run",
        "receipt",  # called in another way
        "shell",
    }  # these ask or tell, and take no data
    otherwise = {"grid": "grid_points", "draw": "draw_picture"}
    otherwise |= {verb: verb.replace(" ", "_") for verb in VERBS if " " in verb}
    assert set(called_by(ALL)) == set(VERBS) - aside
    for verb in called_by(ALL):
        assert f"zembrel {verb} --help" in getattr(zembrel, otherwise.get(verb, verb)).__doc__
    with pytest.raises(AttributeError, match="no attribute 'clipp'"):
        zembrel.clipp  # noqa: B018


@pytest.mark.parametrize("verb", called_by(ALL))
def test_options_have_the_names_that_people_type(verb: str) -> None:
    command = command_of(verb)
    flags = {max((*p.opts, *p.secondary_opts), key=len).removeprefix("--no-") for p in command.params}
    flags = {flag.removeprefix("--").replace("-", "_") for flag in flags}
    assert set(verboptions.options_of(verb)) == flags - {
        "json",
        "quiet",
        "verbose",
        "explain",
        "progress",
        "help",
    }
    for p in command.params:
        option = verboptions.options_of(verb).get(max(p.opts, key=len).removeprefix("--").replace("-", "_"))
        assert option is None or option.many == bool(p.multiple or p.nargs == -1), option
        assert option is None or (option.kind == FLAG) == bool(getattr(p, "is_flag", False)), option


def test_a_job_runs_and_its_record_becomes_a_page(here: Path) -> None:
    Path("j.job.toml").write_text(
        '[[step]]\nid="a"\nverb="resample"\ninputs="in/0.tif"\ncell="20m"\nout="a.tif"\n'
    )
    receipt = zembrel.run("j.job.toml", only=("a",))
    assert (
        receipt.own["steps"][0]["state"] == "ran" and zembrel.run("j").own["steps"][0]["state"] == "unchanged"
    )
    assert zembrel.receipt("j", out="j.html").results[0].bytes and "resample" in Path("j.html").read_text()


def test_an_option_that_is_named_as_a_field_of_inputs_is_the_option(here: Path) -> None:
    zembrel.label("in/0.tif", names="kind", out="named.tif")
    assert [band.name for band in zembrel.open("named.tif").bands] == ["kind"]


def test_a_verb_without_a_place_gives_a_raster_and_writes_nothing(here: Path) -> None:
    before = sorted(here.rglob("*"))
    lazy = zembrel.clip("in/0.tif", within="730100,5099700,730300,5099900")
    assert isinstance(lazy, zembrel.Raster) and sorted(here.rglob("*")) == before
    receipt = zembrel.clip("in/0.tif", within="730100,5099700,730300,5099900", out="c.tif")
    assert receipt.verb == "clip" and receipt.facts["results"][0]["out"] == "c.tif"
    np.testing.assert_array_equal(tifffile.imread("c.tif"), lazy.cells(lazy.frame.pane).cells[0])


def test_verbs_chain_without_files_between_them(here: Path) -> None:
    whole = zembrel.mosaic(["in/0.tif", "in/1.tif"])
    coarse = zembrel.resample(whole, cell="20m", method="mean")
    receipt = zembrel.convert(coarse, type="float32", out="chain.tif")
    assert receipt.facts["inputs"] == ["raster1.tif"]
    for words in (
        ("mosaic", "in/0.tif", "in/1.tif", "--out", "a.tif"),
        ("resample", "a.tif", "--cell", "20m", "--method", "mean", "--out", "b.tif"),
    ):
        subprocess.run([sys.executable, "-m", "zembrel", *words, "-q"], check=True, cwd=here)
    np.testing.assert_array_equal(tifffile.imread("chain.tif"), tifffile.imread("b.tif").astype(np.float32))


def test_many_inputs_of_a_verb_that_goes_one_to_one_give_many_rasters(here: Path) -> None:
    found = zembrel.reproject("in", crs="EPSG:4326")
    assert [r.frame.crs.code for r in found] == [4326, 4326]
    assert isinstance(zembrel.stack(["in/0.tif", "in/1.tif"], onto="in/0.tif"), zembrel.Raster)


def test_what_a_file_holds_is_opened_by_its_kind(here: Path) -> None:
    (here / "p.geojson").write_text('{"type": "Point", "coordinates": [1, 2]}')
    (here / "p.pts").write_text("x,y,z\n1,2,3\n")
    assert zembrel.open("in/0.tif", bands="1").cells(Pane(0, 0, 2, 3)).cells.shape == (1, 2, 3)
    assert len(zembrel.open(here / "p.geojson")) == 1 and zembrel.open("p.pts").cloud.count == 1
    with pytest.raises(UsageError, match="2 files are meant"):
        zembrel.open("in")


def test_receipts_come_from_verbs_that_only_look(here: Path) -> None:
    assert zembrel.describe("in/0.tif", stats=True).facts["layers"][0]["frame"]["columns"] == 80
    zembrel.convert("in/0.tif", out="same.tif")
    assert zembrel.compare(["in/0.tif", "same.tif"], at_least=("share=1",)).exit_code == 0


@pytest.mark.parametrize("option", ["withn", "touchin"])
def test_an_unknown_option_is_named_with_the_near_miss(here: Path, option: str) -> None:
    with pytest.raises(UsageError, match=f"clip has no option '{option}'"):
        zembrel.clip("in/0.tif", **{option: "x"})


@pytest.mark.parametrize("option", [{"classes": "2"}, {"where": "a = 1"}, {"fields": ("a",)}])
def test_options_of_other_kinds_are_refused_for_a_raster_in_memory(
    here: Path, option: dict[str, Any]
) -> None:
    lazy = zembrel.clip("in/0.tif", within="730000,5099700,730300,5100000")
    with pytest.raises(UsageError, match=r"a raster in memory holds no (points|features)"):
        zembrel.clip(lazy, within="730000,5099700,730300,5100000", **option)


def test_what_is_no_raster_needs_a_place(here: Path) -> None:
    (here / "p.geojson").write_text('{"type": "Point", "coordinates": [1, 2]}')
    with pytest.raises(UsageError, match="clip gives rasters alone without a place"):
        zembrel.clip("p.geojson", within="0,0,3,3")
    assert len(zembrel.open(zembrel.clip("p.geojson", within="0,0,3,3", out="q.geojson").facts["out"])) == 1


def test_rasters_in_memory_have_names_of_their_own(here: Path) -> None:
    (here / "zones.csv").write_text(
        'wkt\n"POLYGON((730010 5099900,730200 5099900,730200 5099700,730010 5099900))"\n'
    )
    zembrel.convert("zones.csv", out="zones.gpkg", from_crs="EPSG:32626")
    lazy = zembrel.clip("in/0.tif", within="730000,5099700,730300,5100000")
    receipt = zembrel.tally(lazy, zones="zones.gpkg", stat=("mean",), out="t.csv")
    assert receipt.facts["inputs"] == ["raster1.tif"] and receipt.facts["zones"] == 1
