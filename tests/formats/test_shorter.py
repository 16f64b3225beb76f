"""A file that is cut off while it is read ends no process: it is an error, whatever the format."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from points.clouds import cloud, write
from rasters import random_cells, raster, save
from zembrel.errors import InputError
from zembrel.formats import choose_format, header_beside, open_raster
from zembrel.grid.pane import Pane
from zembrel.points.files import open_points
from zembrel.points.records import Layout


@pytest.mark.parametrize("name", ["g.npy", "g.bil", "g.bip", "g.flt", "g.tif", "g.asc"])
def test_rasters(tmp_path: Path, name: str) -> None:
    source = raster(random_cells(300, 400, kind="float32"))
    path = save(tmp_path / name, source)
    for beside, text in header_beside(choose_format(path, None), path, source, {}).items():
        beside.write_text(text)
    view = open_raster(path)
    path.write_bytes(path.read_bytes()[:5000])
    with pytest.raises(InputError):
        view.cells(view.frame.pane)


@pytest.mark.parametrize("name", ["p.las", "p.laz", "p.ply"])
def test_points(tmp_path: Path, name: str) -> None:
    source = open_points(write(tmp_path / name, cloud(50_000, Layout(6)), chunk=10_000))
    (tmp_path / name).write_bytes((tmp_path / name).read_bytes()[:5000])
    with pytest.raises(InputError):
        for part in source.parts:
            source.read(part)


@pytest.mark.parametrize("order", ["C", "F"])
@pytest.mark.parametrize("shape", [(50, 70), (3, 50, 70)])
@pytest.mark.parametrize("kind", ["<f4", ">i2", "u1"])
def test_any_part_of_an_array_is_that_part(tmp_path: Path, order: Any, shape: Any, kind: str) -> None:
    cells = np.asarray(random_cells(*shape, kind="int16").astype(kind), order=order)
    np.save(tmp_path / "a.npy", cells)
    view = open_raster(tmp_path / "a.npy")
    for pane in (view.frame.pane, Pane(7, 11, 8, 12), Pane(3, 0, 31, 70), Pane(0, 60, 50, 61)):
        part = view.cells(pane).cells
        np.testing.assert_array_equal(
            part, cells.reshape(-1, 50, 70)[:, pane.top : pane.bottom, pane.left : pane.right]
        )
