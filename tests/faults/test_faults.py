"""A run that is cut at any call to the file system leaves the old result or the new one, and a rerun goes on.

The calls are counted and cut by a layer between the program and the C library (`interpose.c`), so that it reaches
SQLite, HDF5 and Arrow as well as our own code.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import depth

HERE = Path(__file__).parent
KILL, FAIL, FULL = 1, 2, 3
MOST = int(
    os.environ.get("ZEMBREL_CUTS", "10" if depth.ASKED else "4")
)  # places of a run that are cut, half of them its last
POLYGONS = """{"type": "FeatureCollection", "features": [%s]}"""
POLYGON = """{"type": "Feature", "properties": {"n": %d}, "geometry": {"type": "Polygon", "coordinates":
 [[[%d, 1], [%d.5, 1], [%d.5, 2], [%d, 1]]]}}"""
# what is written, from what, and whether its main file goes first and comes last
TILES = ("deliver", "pyramid", "a.tif", "--limits", "0,300")
KINDS: dict[str, tuple[tuple[str, ...], str]] = {
    "a file": (("convert", "a.tif"), "o.tif"),
    "a file with its place beside it": (("convert", "a.tif", "--type", "uint8", "--clamp"), "o.png"),
    "a set": (("convert", "a.geojson"), "o.shp"),
    "a database": (("convert", "a.geojson"), "o.gpkg"),
    "a layer of a database": (("convert", "a.geojson", "--into", "second"), "o.gpkg"),
    "a store in a folder": (("convert", "a.tif"), "o.zarr"),
    "a store in a file": (("convert", "a.tif"), "o.nc"),
    "a table": (("convert", "a.geojson"), "o.parquet"),
    "points": (("convert", "a.pts", "--from-crs", "EPSG:32626", "--columns", "x,y,z"), "o.copc.laz"),
    "an archive": (("convert", "a.geojson"), "o.kmz"),
    "tiles in a database": (TILES, "o.mbtiles"),
    "tiles in one file": (TILES, "o.pmtiles"),
    "tiles in a folder": (TILES, "o"),
    "chips": (("deliver", "chips", "a.tif", "--cells", "10"), "o.tfrecord"),
    "a film": (
        (
            "deliver",
            "film",
            "a.tif",
            "a.asc",
            "--from-crs",
            "EPSG:32626",
            "--size",
            "40",
            "--ramp",
            "grey",
            "--limits",
            "0,300",
        ),
        "o.gif",
    ),
    "a chart": (("deliver", "chart", "a.tif", "--limits", "0,300"), "o.kap"),
    "a globe": (("deliver", "globe", "a.tif", "a.geojson", "--limits", "0,300"), "o.kmz"),
    "terrain": (("deliver", "heightmap", "a.tif", "--size", "33"), "o/"),
}

SUITE = ["a file", "a set", "tiles in a folder"]

CARRIED = (
    ("deliver", "chart", "a.tif", "--limits", "0,300", "--carry-to", ".", "--device", "o.device.toml"),
    "o.kap",
)


@pytest.fixture(scope="module")
def layer(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The layer between the program and the C library, compiled."""
    made = tmp_path_factory.mktemp("layer") / "interpose.so"
    gcc = shutil.which("gcc") or shutil.which("cc")
    if gcc is None or not sys.platform.startswith("linux"):
        pytest.skip("calls are cut by a library made with gcc on Linux")
    subprocess.run([gcc, "-shared", "-fPIC", "-O1", "-o", made, HERE / "interpose.c", "-ldl"], check=True)
    return made


class Server:
    """The program in forked children of one process that has loaded everything."""

    def __init__(self, layer: Path, folder: Path) -> None:
        environment = os.environ | {"LD_PRELOAD": str(layer), "SOURCE_DATE_EPOCH": "1780000000"}
        self._process = subprocess.Popen(
            [sys.executable, HERE / "server.py"], text=True, env=environment | {"COLUMNS": "200"},
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip
        first = ("convert", "a.asc", "--from-crs", "EPSG:32626", "--out", "a.tif")
        kinds = [*KINDS.values(), CARRIED]
        runs = [first, *((*verb, "--out", out, "--workers", "1") for verb, out in kinds)]
        for words in runs:
            self._send({"words": [*words, "-q", "--replace"], "folder": str(folder)})
        self._send(None)

    def __call__(self, folder: Path, words: tuple[str, ...], at: int = 0, mode: int = 0) -> dict[str, Any]:
        self._send({"words": words, "folder": str(folder), "at": at, "mode": mode})
        assert self._process.stdout is not None
        answer: dict[str, Any] = json.loads(self._process.stdout.readline())
        return answer

    def _send(self, asked: dict[str, Any] | None) -> None:
        assert self._process.stdin is not None
        self._process.stdin.write(("" if asked is None else json.dumps(asked)) + "\n")
        self._process.stdin.flush()

    def close(self) -> None:
        self._process.communicate(timeout=20)


@pytest.fixture(scope="module")
def server(layer: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    made = Server(layer, filled(tmp_path_factory.mktemp("first") / "w"))
    yield made
    made.close()


def tree(folder: Path) -> dict[str, bytes]:
    """All files of a folder, hidden ones too."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


def filled(folder: Path, shift: int = 0) -> Path:
    """A folder with inputs; others for another `shift`."""
    folder.mkdir(exist_ok=True)
    cells = "\n".join(" ".join(str((r * 7 + c * 3 + shift) % 250) for c in range(20)) for r in range(20))
    (folder / "a.asc").write_text(
        f"ncols 20\nnrows 20\nxllcorner 730000\nyllcorner 5098000\ncellsize 5\n{cells}\n"
    )
    parts = [POLYGON % (n + shift, n, n, n, n) for n in range(1, 5 + shift)]
    (folder / "a.geojson").write_text(POLYGONS % ",".join(parts))
    points = "\n".join(f"{730000 + n * 1.5} {5098000 + (n * 7 + shift) % 90} {n % 13}" for n in range(300))
    (folder / "a.pts").write_text(points + "\n")
    (folder / "o.device.toml").write_text('title = "card"\nkinds = ["chart"]\nfolder = "o.card"\n')
    return folder


class Trial:
    """One kind of result, made from scratch or in place of another."""

    def __init__(self, server: Server, folder: Path, kind: str, replacing: bool) -> None:
        self.server, self.folder = server, folder / "w"
        verb, self.out = KINDS.get(kind, CARRIED)
        self.words = (*verb, "--out", self.out, "--workers", "1")
        whole = ("--replace",) if "--into" not in verb or replacing else ()
        self.words += whole if replacing else ()
        filled(self.folder)
        if "a.tif" in verb:
            self._run(("convert", "a.asc", "--from-crs", "EPSG:32626", "--out", "a.tif"))
        if replacing or "--into" in verb:
            first = verb if replacing and "--into" not in verb else verb[:2]
            self._run((*first, "--out", self.out))
            if replacing and "--into" in verb:
                self._run((*verb, "--out", self.out))
            filled(self.folder, 3)
            if "a.tif" in verb:
                self._run(("convert", "a.asc", "--from-crs", "EPSG:32626", "--out", "a.tif", "--replace"))
        self.before = tree(self.folder)
        self.saved = folder / "saved"
        shutil.copytree(self.folder, self.saved)
        done = server(self.folder, self.words)
        assert done["code"] == 0, done["said"]
        self.after, self.calls = tree(self.folder), done["calls"]
        assert self.before != self.after and self.calls > 2

    def _run(self, words: tuple[str, ...]) -> None:
        done = self.server(self.folder, words)
        assert done["code"] == 0, done["said"]

    def cut(self, at: int, mode: int) -> tuple[int, str]:
        """Begin again and cut the run."""
        shutil.rmtree(self.folder)
        shutil.copytree(self.saved, self.folder)
        done = self.server(self.folder, self.words, at, mode)
        return done["code"], done["said"]

    @property
    def places(self) -> list[int]:
        """Calls that are cut: all, or the last and some of the others."""
        tail = range(max(1, self.calls - MOST // 2), self.calls + 1)
        step = max(1, (tail.start - 1) // (MOST // 2))
        return [*range(1, tail.start, step), *tail]

    def result(self, files: dict[str, bytes]) -> dict[str, bytes]:
        stem = self.out.partition(".")[0]
        named = {name: held for name, held in files.items() if name.startswith(stem)}
        return {name: held for name, held in named.items() if "/.zembrel-part-" not in name}  # swept later


@pytest.mark.parametrize("replacing", depth.some([False, True], [True]), ids=["new", "replaced"])
@pytest.mark.parametrize("kind", depth.some(KINDS, SUITE))
def test_a_run_that_is_killed_leaves_the_old_or_the_new_and_a_rerun_goes_on(
    server: Server, tmp_path: Path, kind: str, replacing: bool
) -> None:
    trial = Trial(server, tmp_path, kind, replacing)
    before, after = trial.result(trial.before), trial.result(trial.after)
    for at in trial.places:
        code, _ = trial.cut(at, KILL)
        assert code == -9
        found = trial.result(tree(trial.folder))
        if trial.out in found:  # of several files the main one goes first and comes last
            assert found in (before, after), (at, sorted(found))
        else:
            assert trial.out not in before or len(before) > 1 or found == {}
            assert all(held in (before.get(name), after.get(name)) for name, held in found.items())
        done = server(trial.folder, trial.words)
        assert done["code"] == 0 or (done["code"] == 4 and found == after), (at, done["said"])
        if found == after and "--into" in trial.words:
            continue  # what is added again to a database lies on other pages
        assert tree(trial.folder) == trial.after, (at, sorted(tree(trial.folder)))


@pytest.mark.parametrize("mode", [FAIL, FULL], ids=["failing", "full"])
@pytest.mark.parametrize("kind", depth.some(KINDS, SUITE[::2]))
def test_a_disk_that_fails_or_is_full_costs_nothing(
    server: Server, tmp_path: Path, kind: str, mode: int
) -> None:
    trial = Trial(server, tmp_path, kind, replacing=True)
    before, after = trial.result(trial.before), trial.result(trial.after)
    for at in trial.places:
        code, said = trial.cut(at, mode)
        assert code in (0, 5), (at, code, said)
        assert trial.result(tree(trial.folder)) == (after if code == 0 else before), (at, code, said)
        if code:
            assert said.splitlines()[-3].startswith("error:"), said


@pytest.mark.parametrize("mode", depth.some([KILL, FAIL, FULL], [FAIL]), ids=["killed", "failing", "full"])
def test_what_is_carried_is_on_the_device_as_it_was_or_whole(
    server: Server, tmp_path: Path, mode: int
) -> None:
    trial = Trial(server, tmp_path, "carried", replacing=True)
    there = "o.card/o.kap"
    before, after = trial.before[there], trial.after[there]
    assert before != after == trial.after["o.kap"]
    for at in trial.places:
        code, said = trial.cut(at, mode)
        assert code in ((-9,) if mode == KILL else (0, 5)), (at, code, said)
        found = trial.result(tree(trial.folder))
        assert found[there] in (before, after), (at, code)
        assert {name for name in found if name.startswith("o.card/")} == {there}
        assert server(trial.folder, trial.words)["code"] == 0 and tree(trial.folder) == trial.after, at
