"""The example of docs/sources.md, line by line, against the demo's own island."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import numpy as np
import pytest
import tifffile

from program import Program
from zembrel.standins.services.serving import served
from zembrel.verbs.serve import island_of

PAGE = Path(__file__).parents[2] / "docs" / "sources.md"


@pytest.mark.deep
def test_the_example_goes_from_a_clean_folder_to_an_engine(program: Program, marrowick: Path) -> None:
    text = PAGE.read_text().partition("## From a clean folder")[2].partition("\n## ")[0]
    blocks = re.findall(r"```\n(.*?)```", text, re.DOTALL)
    assert "standin serve" in blocks[0]
    lines = [line.removeprefix("$ zembrel ") for line in blocks[1].splitlines()]
    assert len(lines) == 13
    with served(island_of(marrowick)) as address:
        for line in lines:
            program(*shlex.split(line.replace("http://127.0.0.1:8046", address)), "--quiet")
    assert "accepted" in program("standin", "device", "engine", "engine").out
    photo, survey = (
        tifffile.imread(program.folder / name).astype(float)[..., :3] for name in ("photo.tif", "survey.tif")
    )
    near = np.abs(photo - survey).mean(axis=-1)
    assert np.median(near) < 6  # the same ground by two ways, one through JPEG
    heights, ground = (tifffile.imread(program.folder / name) for name in ("heights.tif", "ground.tif"))
    known = np.isfinite(ground)
    assert known.any() and np.abs(heights - ground)[known].mean() < 0.5
    overlays = sorted(path.name for path in (program.folder / "engine").glob("*.png"))
    assert overlays == ["photo.png", "survey.png"]


def test_the_server_of_the_command_line_says_where_it_is(program: Program, marrowick: Path) -> None:
    run = subprocess.Popen([sys.executable, "-m", "zembrel", "standin", "serve", str(marrowick), "--port", "18046", "--fault", "fail=0"],
                           cwd=program.folder, stderr=subprocess.PIPE, text=True)  # fmt: skip
    try:
        assert run.stderr is not None
        said = [run.stderr.readline() for _ in range(12)]
        assert any("http://127.0.0.1:18046/wms" in line for line in said)
        for _ in range(100):
            try:
                with urllib.request.urlopen("http://127.0.0.1:18046/faults?version=913") as answer:
                    assert b'"version":"913"' in answer.read()
                break
            except OSError:
                time.sleep(0.1)
        else:
            pytest.fail("no answer")
    finally:
        run.terminate()
        run.wait()
    assert "known are" in program.refuses(2, "standin", "serve", str(marrowick), "--fault", "flaky=1")[1]
    assert "zembrel demo" in program.refuses(3, "standin", "serve", str(program.folder))[2]
