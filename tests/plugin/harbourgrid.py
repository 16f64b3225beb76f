"""Soundings of a harbour: a line `HARBOUR columns rows west north cell code`, then depths in decimetres."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from zembrel.formats.form import Format
from zembrel.formats.sink import Sink
from zembrel.formats.whole import WholeRaster, only_layer, whole_sink
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.model import Band

FORMAT = Format(
    "harbour soundings",
    "harbourgrid",
    (".harbour",),
    "the harbour master's notebook",
    magics=(b"HARBOUR ",),
    types=("int16",),
    most_bands=1,
    holds_mask=False,
    nodata=-1,
)
layers = only_layer


def open_raster(path: Path, layer: str | None) -> WholeRaster:
    columns, rows, west, north, cell, code = path.read_text().split("\n")[0].split()[1:]
    affine = Affine(float(west), float(north), float(cell), -float(cell))
    frame = Frame(by_code(int(code)), affine, int(columns), int(rows))
    return WholeRaster(path, frame, (Band("depth", "int16", -1),), _decoded)


def _decoded(path: Path) -> np.ndarray:
    return np.loadtxt(path, np.int16, skiprows=1, ndmin=2)[:, :, None]


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    def write(cells: np.ndarray, valid: np.ndarray | None) -> None:
        a = frame.affine
        head = f"HARBOUR {frame.columns} {frame.rows} {a.x0!r} {a.y0!r} {a.x_col!r} {frame.crs.code}\n"
        depths = cells[:, :, 0] if valid is None else np.where(valid, cells[:, :, 0], -1)
        path.write_text(head + "\n".join(" ".join(map(str, row)) for row in depths.tolist()) + "\n")

    return whole_sink(frame, bands, write)
