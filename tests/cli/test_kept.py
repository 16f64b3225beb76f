"""A command never writes onto what it reads, whatever option names it and however it is spelled."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import depth
from conftest import Shared
from program import Program
from rasters import HOME, random_cells, raster, save
from zembrel.cli import guarded
from zembrel.engine.commit import Staging
from zembrel.geodesy.text import write_crs

SQUARE = """{"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32626"}}, "features": [
{"type": "Feature", "properties": {"v": 1}, "geometry": {"type": "Polygon", "coordinates":
[[[730000, 5099800], [730000, 5100000], [730200, 5100000], [730200, 5099800], [730000, 5099800]]]}}]}"""


@pytest.fixture(scope="session")
def work(shared: Shared, marrowick: Path) -> Path:
    """Small files of every kind, with what lies beside them. Read only."""
    return shared("kept", lambda here: fill(here, marrowick))


@pytest.fixture
def folder(work: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A copy of them, and the present folder."""
    here = tmp_path / "work"
    shutil.copytree(work, here)
    monkeypatch.chdir(here)
    return here


def fill(here: Path, marrowick: Path) -> None:
    for name in ("a.tif", "b.tif", "geoid.tif", "g.asc", "n.nc", "z.zarr"):
        save(here / name, raster(random_cells(20, 20, kind="float32")))
    for name in ("photo", "other"):
        save(here / f"{name}.png", raster(random_cells(3, 20, 20)))
        (here / f"{name}.pgw").write_text("10\n0\n0\n-10\n730005\n5099995\n")
        (here / f"{name}.prj").write_text(write_crs(HOME))
    (here / "area.geojson").write_text(SQUARE)
    (here / "g.prj").write_text(write_crs(HOME))
    (here / "points.csv").write_text("x,y,name\n730050,5099950,one\n")
    shutil.copy(here / "g.prj", here / "points.prj")
    (here / "inputs.csv").write_text("a.tif\nb.tif\n")
    shutil.copy(marrowick / "lidar/raw.las", here / "p.las")
    Program(here)("mosaic", "a.tif", "--out", "q.quilt.toml", "-q")
    Program(here)("frame", "a.tif", "--out", "f.frame.toml", "-q")


# the command, and the file it reads that its result is named after
COMMANDS = {
    "reproject a.tif --crs EPSG:3857": "a.tif",
    "clip a.tif --onto b.tif": "b.tif",
    "mask a.tif --by b.tif": "b.tif",
    "mosaic q.quilt.toml": "a.tif",
    "resample g.asc --cell 20": "g.asc",
    "convert n.nc": "n.nc",
    "convert z.zarr": "z.zarr",
    "clip a.tif --onto f.frame.toml": "a.tif",
    "frame a.tif --onto f.frame.toml": "f.frame.toml",
    "convert area.geojson": "area.geojson",
    "rasterize area.geojson --value 1 --onto b.tif": "b.tif",
    "tally a.tif --zones area.geojson": "area.geojson",
    "sample a.tif --at points.csv": "points.csv",
    "mosaic --inputs-from inputs.csv --table {} --out m.tif": "inputs.csv",
    "tile a.tif --split 2x2 --index {} --within area.geojson --out sheets/": "area.geojson",
    "thin p.las --every 2 --from-crs EPSG:32626": "p.las",
    "reproject a.tif --from-crs 'EPSG:32626 + EPSG:5773' --crs 'EPSG:32626 + ellipsoidal height'"
    " --height-grid geoid.tif": "geoid.tif",
    "draw photo.png": "photo.png",
    "compare photo.png other.png --figure {}": "photo.png",
}


def spelled(path: Path, how: str) -> str:
    """Another name of the file at `path`."""
    other = path.with_name(f"same-{path.name}")
    if how == "link":
        other.symlink_to(path)
    elif how == "hard link":
        os.link(path, other)
    return {"full": str(path), "dots": f"../work/{path.name}"}.get(how, other.name)


@pytest.mark.parametrize("how", depth.some(["full", "dots", "link", "hard link"], ["link"]))
@pytest.mark.parametrize("command", COMMANDS)
def test_what_a_run_reads_is_never_written_onto(
    folder: Path, command: str, how: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    target = folder / COMMANDS[command]
    if how == "hard link" and target.is_dir():
        pytest.skip("folders have one name")
    name = spelled(target, how)
    words = shlex.split(command.replace("{}", name))
    words += [] if "{}" in command else ["--out", name]
    before = {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    monkeypatch.chdir(folder)
    assert guarded([*words, "--replace"]) == 4
    assert "is an input as well as a result" in capsys.readouterr().err
    assert {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()} == before


@pytest.mark.parametrize("command", COMMANDS)
def test_what_a_run_reads_stays_as_it_is_to_the_end(
    folder: Path, command: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Another program touches the input when everything of it has been read, but nothing is written yet."""
    read, publish = folder / COMMANDS[command], Staging.publish

    def touched(staging: Staging) -> None:
        inner = [*read.rglob("c/0/0"), *read.rglob("0/c/*"), read]
        os.utime(next(path for path in inner if path.is_file()), (1, 1))
        publish(staging)

    new = "new" + "".join(read.suffixes)
    words = shlex.split(command.replace("{}", new))
    words += [] if "{}" in command else ["--out", new]
    before = {path for path in folder.rglob("*") if path.is_file()}
    monkeypatch.setattr(Staging, "publish", touched)
    assert guarded(words) == 3
    assert f"{read.name} was changed while it was read" in capsys.readouterr().err or read.is_dir()
    assert {path for path in folder.rglob("*") if path.is_file()} == before


WATCH = """
import os, sys
from pathlib import Path
from zembrel import reading
opened, noted, note = set(), set(), reading.Readings.note
there = {str(path) for path in Path.cwd().resolve().rglob("*") if path.is_file()}
def noting(self, path):
    noted.add(os.path.realpath(path))
    return note(self, path)
def hook(event, facts):
    if event == "open" and isinstance(facts[0], str) and not (facts[2] or 0) & (os.O_WRONLY | os.O_RDWR):
        opened.add(os.path.realpath(facts[0]))
reading.Readings.note = noting
sys.addaudithook(hook)
from zembrel.cli import main
try:
    main()
finally:
    missed = opened & there - noted
    print("MISSED", sorted(p for p in missed if not any(p.startswith(store + os.sep) for store in noted)))
"""


@pytest.mark.parametrize("command", depth.some(COMMANDS, [*COMMANDS][::6]))
def test_whatever_the_process_opens_for_reading_is_on_the_list(folder: Path, command: str) -> None:
    """The oracle is the interpreter itself, which reports every file that is opened."""
    ending = Path(COMMANDS[command].partition(".")[2]).name
    words = shlex.split(command.replace("{}", f"new.{ending}"))
    words += [] if "{}" in command else ["--out", f"new.{ending}"]
    done = subprocess.run(
        [sys.executable, "-c", WATCH, *words], cwd=folder, capture_output=True, text=True, timeout=300
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.splitlines()[-1] == "MISSED []"
