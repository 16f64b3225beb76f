"""Runs that are killed, and inputs that change under way: nothing half-written, and the next run cleans up."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

import depth
from program import listing
from rasters import ArrayRaster, random_cells, raster, save
from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.errors import InputError
from zembrel.formats import load, open_raster
from zembrel.grid.pane import Pane
from zembrel.raster.model import Block

COMMAND = [
    sys.executable,
    "-m",
    "zembrel",
    "resample",
    "in.tif",
    "--cell",
    "7m",
    "--out",
    "out.tif",
    "--quiet",
]


@pytest.mark.parametrize("kills", depth.some([6, 30], [6]))
def test_killing_at_random_moments_never_leaves_half_a_file(tmp_path: Path, kills: int) -> None:
    """SIGKILL between the first moment at which anything stands on the disk and the end of the run."""
    save(tmp_path / "in.tif", raster(random_cells(3, 900, 900)))
    subprocess.run(COMMAND, cwd=tmp_path, check=True)
    whole = (tmp_path / "out.tif").read_bytes()
    (tmp_path / "out.tif").unlink()
    moments, left, finished = random.Random(7), 0, 0
    for _ in range(kills):
        process = subprocess.Popen(COMMAND, cwd=tmp_path)
        while process.poll() is None and len(listing(tmp_path)) == 1:
            time.sleep(0.001)
        time.sleep(moments.uniform(0, 0.25))
        process.send_signal(signal.SIGKILL)
        process.wait()
        left += any(tmp_path.glob(".zembrel-part-*"))
        if (tmp_path / "out.tif").exists():
            assert (tmp_path / "out.tif").read_bytes() == whole
            (tmp_path / "out.tif").unlink()
            finished += 1
    assert left > kills // 3 and finished < kills, "the kills came too late to prove anything"
    subprocess.run(COMMAND, cwd=tmp_path, check=True)
    assert {path.name for path in tmp_path.iterdir()} == {"in.tif", "out.tif"}


class Meddled:
    """A view of a file that is meddled with before its second block is asked for."""

    def __init__(self, path: Path, meddle: str) -> None:
        self.source, self.path, self.meddle = open_raster(path), path, meddle
        self.frame, self.bands = self.source.frame, self.source.bands
        self.blocks, self.lock = 0, threading.Lock()

    def cells(self, pane: Pane) -> Block:
        with self.lock:
            self.blocks += 1
            if self.blocks == 2:
                self._spoil()
        return self.source.cells(pane)

    def _spoil(self) -> None:
        if self.meddle == "cut":
            self.path.write_bytes(self.path.read_bytes()[:2000])
        elif self.meddle == "rewritten":
            content = self.path.read_bytes()
            time.sleep(0.01)
            self.path.write_bytes(content)
        else:
            from zembrel.handles import file_handles

            self.path.unlink()
            file_handles._open.clear()


@pytest.mark.parametrize(
    "meddle, word", [("cut", "changed"), ("rewritten", "changed"), ("gone", "cannot be read")]
)
def test_an_input_that_changes_or_vanishes_stops_the_run(tmp_path: Path, meddle: str, word: str) -> None:
    save(tmp_path / "in.tif", raster(random_cells(300, 300)), tile="32", overviews="no")
    view = Meddled(tmp_path / "in.tif", meddle)
    sink = load("geotiff").make_sink(tmp_path / "out.tif", view.frame, view.bands, {"tile": "32"})
    with pytest.raises(InputError, match=word):
        run(view, sink, Limits(workers=1))
    assert not (tmp_path / "out.tif").exists()


def test_a_replaced_input_stays_the_old_one_for_those_who_have_it(tmp_path: Path) -> None:
    """Replacing by renaming leaves readers with the file they opened."""
    first, second = random_cells(64, 64), random_cells(64, 64, seed=2)
    save(tmp_path / "in.tif", raster(first), tile="32")
    source = open_raster(tmp_path / "in.tif")
    source.cells(Pane(0, 0, 8, 8))
    save(tmp_path / "new.tif", ArrayRaster(source.frame, source.bands, second[None]), tile="32")
    (tmp_path / "new.tif").replace(tmp_path / "in.tif")
    np.testing.assert_array_equal(source.cells(source.frame.pane).cells[0], first)
    again = open_raster(tmp_path / "in.tif")
    np.testing.assert_array_equal(again.cells(again.frame.pane).cells[0], second)
