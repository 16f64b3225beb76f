"""What goes wrong outside: missing and broken inputs, disks, signals. Nothing half-written stays."""

from __future__ import annotations

import json
import os
import resource
import shlex
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from program import Program, listing
from rasters import frame, random_cells, raster, save
from zembrel.geodesy.registry import by_code


@pytest.fixture
def sheet(zembrel: Program) -> Program:
    """A sheet, one without CRS, and a text that is named like a picture."""
    save(zembrel.folder / "a.tif", raster(random_cells(3, 300, 300)))
    save(zembrel.folder / "lost.tif", raster(random_cells(3, 50, 50), where=frame(50, 50, crs=None)))
    (zembrel.folder / "text.tif").write_text("not a picture")
    return zembrel


@pytest.mark.parametrize(
    "words, what",
    [
        (["convert", "none.tif", "--out", "x.tif"], "none.tif does not exist"),
        (["convert", "*.xyz", "--out", "x.tif"], "nothing fits '*.xyz'"),
        (["convert", "text.tif", "--out", "x.tif"], "text.tif is not what its name says"),
        (["reproject", "lost.tif", "--crs", "EPSG:4326", "--out", "x.tif"], "lost.tif has no coordinate reference system"),
        (["mosaic", "a.tif", "lost.tif", "--out", "x.tif"], "lost.tif has no coordinate reference system"),
        (["index", "lost.tif", "--out", "x.geojson"], "lost.tif has no coordinate reference system"),
        (["reproject", "a.tif", "--crs", "EPSG:99999", "--out", "x.tif"], "EPSG:99999 is not a CRS of the registry"),
        (["clip", "a.tif", "--within", "1,2,3,4", "--out", "x.tif"], "a.tif has nothing inside 1,2,3,4"),
        (["clip", "a.tif", "--within", "nowhere.geojson", "--out", "x.tif"], "area 'nowhere.geojson' is no area phrase and no file"),
        (["convert", "a.tif", "--layer", "7", "--out", "x.tif"], "a.tif has no layer '7'"),
        (["convert", "a.tif", "--from-crs", "EPSG:32627", "--out", "x.tif"], "a.tif says it is in EPSG:32626 WGS 84 / UTM zone 26N, not EPSG:32627 WGS 84 / UTM zone 27N"),
        (["describe", "a.tif", "--at", "1,2"], "a.tif does not reach 1,2"),
        (["describe", "."], "text.tif is not what its name says"),
        (["clip", "a.tif", "--onto", "text.tif", "--out", "x.tif"], "text.tif is not what its name says"),
    ],
)  # fmt: skip
def test_inputs_that_are_missing_broken_or_elsewhere(sheet: Program, words: list[str], what: str) -> None:
    assert sheet.refuses(3, *words)[0] == what


def test_a_missing_crs_can_be_given(sheet: Program) -> None:
    sheet("mosaic", "a.tif", "lost.tif", "--from-crs", "EPSG:32626", "--out", "x.tif")
    told = sheet("describe", "a.tif", "--from-crs", "EPSG:32627", "--force-crs", "--json").json
    assert told["layers"][0]["frame"]["crs"] == "EPSG:32627"


@pytest.mark.skipif(os.geteuid() == 0, reason="nothing is forbidden to root")
def test_paths_that_may_not_be_read_or_written(sheet: Program) -> None:
    (sheet.folder / "a.tif").chmod(0)
    assert sheet.refuses(3, "convert", "a.tif", "--out", "x.tif")[0] == "a.tif cannot be read"
    (sheet.folder / "a.tif").chmod(0o600)
    (sheet.folder / "shut").mkdir(mode=0o500)
    assert "cannot be written" in sheet.refuses(5, "convert", "a.tif", "--out", "shut/x.tif")[0]


def test_a_place_that_cannot_be_written(sheet: Program) -> None:
    (sheet.folder / "file").write_text("")
    assert "cannot be written" in sheet.refuses(5, "convert", "a.tif", "--out", "file/x.tif")[0]
    (sheet.folder / "x.tif").mkdir()


def test_a_disk_that_fills_up(sheet: Program) -> None:
    """A limit on file sizes stands for the full disk: every write past it fails."""
    before = listing(sheet.folder)

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (100_000, 100_000))

    done = subprocess.run(
        [sys.executable, "-m", "zembrel", "convert", "a.tif", "--out", "full.tif"],
        cwd=sheet.folder, capture_output=True, text=True, preexec_fn=limit, env=os.environ | {"NUMBA_CACHE_DIR": "/nonexistent"},
    )  # fmt: skip
    assert done.returncode == 5, done.stderr
    assert done.stderr.splitlines()[0] == "error: full.tif cannot be written"
    assert listing(sheet.folder) == before


def test_a_really_full_disk(sheet: Program) -> None:
    disk = sheet.folder / "disk"
    disk.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=600k", "tmpfs", str(disk)], capture_output=True
    )
    if mounted.returncode:
        pytest.skip("this machine lets nobody mount a small disk")
    try:
        (disk / "ballast").write_bytes(bytes(200_000))
        said = sheet("convert", "a.tif", "--out", "disk/full.tif", "--set", "overviews=no", code=None)
        assert said.code == 5 and "free some space" in said.err, said.err
        assert [path.name for path in disk.iterdir()] == ["ballast"]
        assert (
            sheet("resample", "a.tif", "--cell", "1m", "--out", "disk/full.tif", code=4).err.count("free")
            >= 2
        )
    finally:
        subprocess.run(["umount", str(disk)], check=True)


@pytest.mark.parametrize("number, code", [(signal.SIGINT, 130), (signal.SIGTERM, 143)])
def test_a_stopped_run_leaves_nothing(sheet: Program, number: int, code: int) -> None:
    before = listing(sheet.folder)
    process = running(sheet)
    process.send_signal(number)
    assert process.wait(60) == code
    assert process.stderr is not None and "nothing half-written remains" in process.stderr.read().decode()
    assert listing(sheet.folder) == before


def test_what_a_killed_run_leaves_is_swept_by_the_next(sheet: Program) -> None:
    process = running(sheet)
    process.kill()
    process.wait(60)
    assert not (sheet.folder / "big.tif").exists()
    assert list(sheet.folder.glob(".zembrel-part-*"))
    sheet("convert", "a.tif", "--out", "b.tif")
    assert not list(sheet.folder.glob(".zembrel-part-*"))


def running(sheet: Program) -> subprocess.Popen[bytes]:
    """A run of some minutes, caught when it has begun to write."""
    words = [
        "reproject",
        "a.tif",
        "--crs",
        "EPSG:32627",
        "--cell",
        "0.1m",
        "--method",
        "lanczos",
        "--out",
        "big.tif",
    ]
    process = subprocess.Popen(
        [sys.executable, "-m", "zembrel", *words], cwd=sheet.folder, stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a suite in the background ignores it
    )  # fmt: skip
    while process.poll() is None and not list(sheet.folder.glob(".zembrel-part-*/*.tiles")):
        time.sleep(0.02)
    assert process.poll() is None
    return process


def test_an_unknown_crs_in_a_file_is_kept_but_never_guessed(sheet: Program) -> None:
    from zembrel.geodesy.crs import UnresolvedCRS

    strange = frame(50, 50, crs=UnresolvedCRS("Marrowick harbour grid"))
    save(sheet.folder / "s.tif", raster(random_cells(3, 50, 50), where=strange))
    sheet("clip", "s.tif", "--within", "730010,5099600,730300,5099900", "--out", "c.tif")
    assert "Marrowick harbour grid" in sheet("describe", "c.tif").out
    assert (
        "Marrowick harbour grid"
        in sheet.refuses(3, "reproject", "s.tif", "--crs", "EPSG:4326", "--out", "x.tif")[0]
    )
    assert by_code(4326).code == 4326


def test_other_files_in_the_folder_are_left_alone(sheet: Program) -> None:
    keep = sheet.folder / ".zembrel-part-mine"
    keep.mkdir()
    (keep / "note.txt").write_text("not a staging folder")
    sheet("convert", "a.tif", "--out", "b.tif")
    assert (keep / "note.txt").exists()
    Path(keep / "note.txt").unlink()


EMPTY = {  # and the exit code when it is asked for: zeros that were counted are no loss
    "reproject h.tif --crs EPSG:4326 --cell 5 --out e.tif": 7,
    "clip h.tif --within 730300,5099700,730350,5099750 --out e.tif": 7,
    "mask h.tif --where 'value < 1e9' --out e.tif": 7,
    "rasterize away.geojson --value 1 --onto h.tif --out e.tif": 7,
    "rasterize away.geojson --count --onto h.tif --out e.tif": 0,
    "tally away.geojson --stat count --onto h.tif --out e.tif": 0,
}


@pytest.mark.parametrize("command", EMPTY)
def test_empty_results_are_refused_or_listed_as_losses_when_asked_for(zembrel: Program, command: str) -> None:
    cells, valid = random_cells(40, 40, kind="float32"), np.ones((40, 40), bool)
    valid[20:] = False
    save(zembrel.folder / "h.tif", raster(cells, valid))
    box = [[730000, 5200000], [730100, 5200000], [730100, 5200100], [730000, 5200000]]
    away = {
        "type": "FeatureCollection",
        "crs": {"type": "name", "properties": {"name": "EPSG:32626"}},
        "features": [
            {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [box]}}
        ],
    }
    (zembrel.folder / "away.geojson").write_text(json.dumps(away))
    _, _, remedy = zembrel.refuses(4, *shlex.split(command))
    assert "--keep-empty" in remedy
    zembrel(*shlex.split(command), "--keep-empty", code=EMPTY[command])
    assert list(zembrel.folder.glob("e.*"))
