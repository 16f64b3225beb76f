"""Kernels: compiled once and for all, with a word about it, wherever they can be kept."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

import depth
from rasters import random_cells, raster, save
from zembrel.errors import UsageError
from zembrel.results.verboptions import arguments_of
from zembrel.verbs import warm


@pytest.mark.parametrize("group", depth.some(warm.GROUPS, ["features", "points"]))
def test_all_work_of_a_group_runs_and_its_kernels_are_kept(group: str) -> None:
    place, _ = warm.compiled(group)
    assert any(Path(place).glob("*.nbc"))


def test_every_verb_that_is_warmed_takes_the_options_it_is_given() -> None:
    rows = [*warm.OF_RASTERS, *warm.OF_ONE_BAND, *warm.OF_HEIGHTS, *warm.OF_FEATURES, *warm.OF_POINTS]
    for verb, _, options in rows:
        assert arguments_of(verb, options, {}), verb
    with pytest.raises(UsageError, match="no option 'stats'"):
        arguments_of("tally", {"stats": ("mean",)}, {})


def run(folder: Path, *words: str, **environment: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "zembrel", *words],
        cwd=folder, env=os.environ | environment, capture_output=True, text=True, check=True,
    )  # fmt: skip


def test_compiling_is_said_once_and_only_when_it_happens(tmp_path: Path) -> None:
    cells = random_cells(40, 50)
    save(tmp_path / "codes.tif", raster(cells, cells > 9, nodata=0.0))
    words = "fill", "codes.tif", "--reach", "3", "--out", "o.tif", "--replace"
    first = run(tmp_path, *words, NUMBA_CACHE_DIR=str(tmp_path / "kernels"))
    assert first.stderr.count("note:  compiling kernels, once after installation") == 1
    assert "compiling" not in run(tmp_path, *words, NUMBA_CACHE_DIR=str(tmp_path / "kernels")).stderr
    for path in (tmp_path / "kernels").rglob("*.nb[ci]"):
        path.write_bytes(path.read_bytes()[:100])
    mended = run(tmp_path, *words, NUMBA_CACHE_DIR=str(tmp_path / "kernels"))
    assert mended.stderr.count("note:  kept kernels are damaged") == 1 and "wrote" in mended.stderr
    assert "note:" not in run(tmp_path, *words, NUMBA_CACHE_DIR=str(tmp_path / "kernels")).stderr


SUM = """
import sys, numpy as np
from numba.core import event
from sums import total
with event.install_recorder("numba:compile") as seen:
    value = total(np.arange(10, dtype=sys.argv[1]))
print(sum(e.is_start and e.data["dispatcher"] is total for _, e in seen.buffer), int(value))
"""


@pytest.mark.parametrize("types", depth.some([["int32"] * 3, ["uint8", "int16", "float32"]], []))
def test_processes_that_compile_at_once_share_the_work_and_lose_none_of_it(
    tmp_path: Path, types: list[str]
) -> None:
    (tmp_path / "sums.py").write_text(
        "from zembrel.compiling import kernel\n@kernel\ndef total(a):\n    t = 0\n    for x in a:\n        t += x\n    return t\n"
    )
    place = os.environ | {"NUMBA_CACHE_DIR": str(tmp_path / "kernels"), "PYTHONPATH": str(tmp_path)}

    def all_at_once(types: list[str]) -> list[str]:
        runs = [
            subprocess.Popen([sys.executable, "-c", SUM, name], stdout=subprocess.PIPE, text=True, env=place)
            for name in types
        ]
        return [run.communicate(timeout=60)[0] for run in runs]

    first = all_at_once(types)
    assert sorted(line.split()[0] for line in first) == sorted(
        ["1"] * len(set(types)) + ["0"] * (3 - len(set(types)))
    )
    assert set(all_at_once(sorted(set(types)))) == {"0 45\n"}  # each is kept
