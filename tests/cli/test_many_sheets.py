"""Thousands of sheets: few open files, each found where it lies."""

from __future__ import annotations

import resource
import struct
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import tifffile

import depth
from zembrel.formats import open_raster

SIDE, CELL = 8, 10.0
WEST, NORTH = 730_000.0, 5_100_000.0


def write_sheets(folder: Path, across: int) -> None:
    """Copies of one TIFF with another tie point and other cells; sheet n holds n modulo 251."""
    keys = (34735, "H", 16, (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32626), True)
    tags = [keys, (33550, "d", 3, (CELL, CELL, 0.0), True), (33922, "d", 6, (0.0, 0.0, 0, 1.5, 2.5, 0), True)]
    tifffile.imwrite(folder / "one.tif", np.full((SIDE, SIDE), 255, np.uint8), extratags=tags)
    content = (folder / "one.tif").read_bytes()
    (folder / "one.tif").unlink()
    place, cells = content.index(struct.pack("<2d", 1.5, 2.5)), content.index(b"\xff" * SIDE * SIDE)
    for n in range(across * across):
        row, column = divmod(n, across)
        corner = struct.pack("<2d", WEST + column * SIDE * CELL, NORTH - row * SIDE * CELL)
        data = content[:place] + corner + content[place + 16 :]
        data = data[:cells] + bytes([n % 251]) * SIDE * SIDE + data[cells + SIDE * SIDE :]
        (folder / f"s{n:05}.tif").write_bytes(data)


@pytest.mark.parametrize("across", depth.some([25, 60], [25]))
def test_hundreds_and_thousands_of_sheets_become_one(tmp_path: Path, across: int) -> None:
    """With far fewer open files than sheets."""
    (tmp_path / "sheets").mkdir()
    write_sheets(tmp_path / "sheets", across)
    done = subprocess.run(
        [sys.executable, "-m", "zembrel", "mosaic", "sheets/", "--out", "all.tif"],
        cwd=tmp_path, capture_output=True, text=True, timeout=300,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (200, 200)),
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert f"{across**2} inputs" in done.stderr and "native cells" in done.stderr
    whole = open_raster(tmp_path / "all.tif")
    numbers = (np.arange(across * across) % 251).reshape(across, across)
    wanted = np.kron(numbers, np.ones((SIDE, SIDE), int))
    np.testing.assert_array_equal(whole.cells(whole.frame.pane).cells[0], wanted)
