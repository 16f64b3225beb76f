"""A little of `make fuzz`: damaged files of every format."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

import depth

TOOL = Path(__file__).parents[2] / "tools" / "fuzz.py"
SECONDS, FIRST = 300, 1


@pytest.mark.parametrize("runs", depth.some([5, 600], []))
def test_damaged_files_end_in_a_result_or_an_error_of_ours(tmp_path: Path, runs: int) -> None:
    command = [sys.executable, TOOL, str(SECONDS), tmp_path / "found", str(FIRST), str(runs)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=600, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    assert " 0 ways of going wrong" in done.stdout
