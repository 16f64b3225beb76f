"""Files of every format with bytes changed, cut and doubled: an InputError or a raster, never anything else."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow
import pytest
from pyarrow import parquet

import depth
from rasters import frame, random_cells, raster, save
from zembrel.errors import ZembrelError
from zembrel.formats import choose_format, header_beside, open_raster
from zembrel.formats.degreecell import degree_cell

NAMES = (
    "g.asc", "g.xyz", "g.csv", "g.matrix.csv", "g.parquet", "g.flt", "g.bil", "g.npy", "g.npz", "g.nc", "g.zarr.zip",
    "g.jp2", "g.png", "g.gif", "g.bmp", "g.webp", "g.dt0", "g.quilt.toml", "g.gtx", "other.parquet",
)  # fmt: skip


def original(folder: Path, name: str) -> Path:
    """A small sound file."""
    if name == "g.quilt.toml":
        save(folder / "s.tif", raster(random_cells(12, 14)))
        (folder / name).write_text(
            'bands = [["b", "uint8", "", "", ""]]\nsheets = [["s.tif", 0, 0, 12, 14, "nearest"]]\n\n[frame]\n'
            'crs = "EPSG:32626"\nleft = 730000.0\ntop = 5100000.0\ncell = [10.0, 10.0]\ncolumns = 14\nrows = 12\n'
        )
        return folder / name
    if name == "other.parquet":  # without a frame, which is found from the coordinates
        rows, columns = (grid.ravel() for grid in np.indices((12, 14), np.float64))
        table = pyarrow.table({"x": 730_000 + columns, "y": 5_100_000 - rows, "v": rows * columns})
        parquet.write_table(table, folder / name, compression="zstd")
        return folder / name
    if name in ("g.dt0", "g.gtx"):
        kind = "int16" if name == "g.dt0" else "float32"
        return save(
            folder / name, raster(random_cells(121, 121, kind=kind), where=degree_cell(-24, 46, 121, 121))
        )
    kind = "uint8" if name.endswith(("jp2", "png", "gif", "bmp", "webp")) else "float32"
    source = raster(random_cells(12, 14, kind=kind), where=frame(14, 12))
    path = save(folder / name, source)
    for beside, text in header_beside(choose_format(path, None), path, source, {}).items():
        beside.write_text(text)
    return path


@pytest.mark.parametrize("rounds", depth.some([20, 300], [20]))
@pytest.mark.parametrize("name", NAMES)
def test_nothing_but_a_clear_error_comes_of_damage(tmp_path: Path, name: str, rounds: int) -> None:
    path = original(tmp_path, name)
    header = next((p for p in (path.with_suffix(".hdr"),) if p.is_file()), None)
    chance = np.random.default_rng(sum(name.encode()))
    for target in [p for p in (path, header) if p is not None]:
        whole = target.read_bytes()
        for _ in range(rounds):
            damaged = bytearray(whole)
            way = chance.integers(4)
            at = int(chance.integers(len(whole)))
            if way == 0:
                damaged = damaged[:at]
            elif way == 1:
                damaged[at:at] = whole[: int(chance.integers(1, 200))]
            else:
                for place in chance.integers(len(whole), size=int(chance.integers(1, 12))):
                    damaged[place] = int(chance.integers(256))
            target.write_bytes(damaged)
            try:
                found = open_raster(path)
                if found.frame.size < 1_000_000:
                    found.cells(found.frame.pane)
            except ZembrelError as exc:
                assert exc.what and exc.why and exc.remedy
        target.write_bytes(whole)
    found = open_raster(path)
    assert found.cells(found.frame.pane).cells.size
