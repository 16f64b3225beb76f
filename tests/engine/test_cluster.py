"""A Dask scheduler with two workers of their own: the bytes are those of threads, and a worker may be lost."""

from __future__ import annotations

import hashlib
import importlib
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import depth
from points.clouds import cloud, write
from program import Program
from rasters import frame, random_cells, raster, save
from schedulers import scheduler
from zembrel.engine import cluster
from zembrel.errors import ResourceError
from zembrel.opened.calls import call
from zembrel.progress import Progress

WORK: list[tuple[str, Any, str, dict[str, Any]]] = [
    ("mosaic", ["photo.tif", "other.tif"], "o.tif", {"overlap": "feather:200m"}),
    ("reproject", "photo.tif", "o.tif", {"crs": "EPSG:3857", "method": "cubic"}),
    ("tile", "photo.tif", "o/", {"cells": "90", "index": "o/i.geojson"}),
    ("deliver pyramid", "photo.tif", "o.mbtiles", {"zooms": "14-18"}),
    ("grid", "points.laz", "o.tif", {"cell": "1m", "surface": "tin"}),
    ("grid", "points.laz", "o.tif", {"cell": "1m", "stat": ("mean", "count")}),
    ("convert", "points.laz", "o.laz", {}),
    ("convert", "points.laz", "o.copc.laz", {}),
    ("fetch", "near.source.toml", "o.tif", {"within": "730200,5098800,731500,5099800", "cell": "20m"}),
]


@pytest.fixture(scope="module")
def inputs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("in")
    save(folder / "photo.tif", raster(random_cells(3, 400, 500), where=frame(500, 400)))
    save(folder / "other.tif", raster(random_cells(3, 400, 500, seed=2), where=frame(500, 400, left=733_000)))
    write(folder / "points.laz", cloud(60_000))
    (folder / "near.source.toml").write_text('kind = "file"\naddress = "photo.tif"\n')
    return folder


@pytest.fixture(scope="module")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with scheduler(tmp_path_factory.mktemp("dask"), 2) as (found, _):
        yield found


def content(folder: Path) -> dict[str, str]:
    return {
        str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("[!.]*"))
        if path.is_file()
    }


@pytest.mark.parametrize(
    ("verb", "source", "out", "options"),
    depth.some(WORK, [WORK[6]]),
    ids=[f"{row[0]} {row[2]}" for row in WORK],
)
def test_the_bytes_are_those_of_threads(
    inputs: Path, tmp_path: Path, address: str, monkeypatch: pytest.MonkeyPatch,
    verb: str, source: Any, out: str, options: dict[str, Any],
) -> None:  # fmt: skip
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1800000000")
    monkeypatch.chdir(inputs)
    found = []
    for name, where in (("threads", {"workers": 2}), ("cluster", {"cluster": address})):
        (tmp_path / name).mkdir()
        given = {k: str(tmp_path / name / v) if k == "index" else v for k, v in options.items()}
        call(verb, source, f"{tmp_path / name}/{out}", **given, **where)
        found.append(content(tmp_path / name))
    assert found[0] == found[1] and found[0]


@pytest.mark.parametrize(
    ("verb", "source", "out", "options"),
    depth.some((WORK[n] for n in (0, 1, 3, 4, 6)), [WORK[0]]),
    ids=["mosaic", "reproject", "pyramid", "grid", "laz"],
)
def test_a_worker_that_is_killed_in_the_middle_takes_nothing_with_it(
    inputs: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
    verb: str, source: Any, out: str, options: dict[str, Any],
) -> None:  # fmt: skip
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1800000000")
    monkeypatch.chdir(inputs)
    call(verb, source, tmp_path / out, **options)
    whole = (tmp_path / out).read_bytes()
    with scheduler(tmp_path, 2) as (address, (_, *workers)):

        def tick(progress: Progress) -> None:
            if progress.blocks and workers[0].poll() is None:
                workers[0].kill()

        call(verb, source, tmp_path / out, replace=True, cluster=address, tick=tick, **options)
        assert workers[0].wait(5), "nothing was under way when the worker was to be killed"
    assert (tmp_path / out).read_bytes() == whole


def test_a_scheduler_that_is_killed_is_told_and_nothing_stays(
    inputs: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(inputs)
    (tmp_path / "dask").mkdir()
    with scheduler(tmp_path / "dask", 2) as (address, runs):

        def tick(progress: Progress) -> None:
            if progress.blocks and runs[0].poll() is None:
                runs[0].kill()

        with pytest.raises(ResourceError, match="scheduler was lost"):
            call(
                "resample", "photo.tif", tmp_path / "o.tif",
                cell="1m", method="cubic", cluster=address, tick=tick, memory="200MB",
            )  # fmt: skip
    assert [path.name for path in tmp_path.iterdir()] == ["dask"]


def test_a_job_uses_the_cluster_for_its_steps(zembrel: Program, inputs: Path, address: str) -> None:
    from distributed import Client

    (zembrel.folder / "j.job.toml").write_text(
        f'[[step]]\nid = "half"\nverb = "resample"\ninputs = "{inputs}/photo.tif"\ncell = "20m"\nmethod = "mean"\n'
        '[[step]]\nid = "web"\nverb = "reproject"\ninputs = "@half"\ncrs = "EPSG:3857"\nout = "web.tif"\n'
    )
    zembrel("run", "j", "--cluster", address, "--memory", "80MB", ZEMBREL_TEST="1")
    there = (zembrel.folder / "web.tif").read_bytes()
    with Client(address) as client:  # what workers may hold of decoded blocks is what the run has said
        held = client.run(lambda: importlib.import_module("zembrel.formats.blockcache").block_cache._budget)
    assert 30_000_000 in held.values()
    assert zembrel("run", "j", "--json").json["steps"][0]["state"] == "unchanged"
    zembrel("run", "j", "--force", "--cluster", "local:2", "--jobs", "2", ZEMBREL_TEST="1")
    zembrel("run", "j", "--force")
    assert (zembrel.folder / "web.tif").read_bytes() == there


@pytest.mark.parametrize(
    ("address", "code", "wrong", "right"),
    [
        ("local:x", 2, "--cluster local:x", "local:4"),
        ("local:0", 2, "--cluster local:0", "local:4"),
        ("here", 2, "--cluster here", "tcp://HOST"),
        ("tcp://127.0.0.1:1", 5, "no scheduler answers at tcp://127.0.0.1:1", "dask scheduler"),
    ],
)
def test_a_cluster_that_is_not_there_is_told(
    zembrel: Program, inputs: Path, address: str, code: int, wrong: str, right: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    monkeypatch.setattr(cluster, "_PATIENCE", 2)
    words = ("convert", inputs / "photo.tif", "--out", "o.tif", "--cluster", address)
    what, _, remedy = zembrel.refuses(code, *words)
    assert wrong in what and right in remedy


def test_without_the_package_the_message_says_what_to_install(inputs: Path, tmp_path: Path) -> None:
    hidden = "import sys; sys.modules['distributed'] = None; from zembrel.cli import main; sys.argv = sys.argv[1:]; main()"
    words = ["zembrel", "convert", str(inputs / "photo.tif"), "--out", "o.tif", "--cluster", "local:2"]
    done = subprocess.run(
        [sys.executable, "-c", hidden, *words], cwd=tmp_path, capture_output=True, text=True
    )
    assert done.returncode == 2 and "install zembrel[cluster]" in done.stderr and not list(tmp_path.iterdir())
