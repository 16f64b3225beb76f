"""Small rasters, in memory and on disk."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import xarray as xr
import zarr

from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.formats import choose_format, load
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Mask, Raster
from zembrel.raster.views.palette import RGB

HOME = by_code(32626)


@dataclass(frozen=True, eq=False)
class ArrayRaster:
    """`values` (bands, rows, columns) and where they are valid, on a frame."""

    frame: Frame
    bands: tuple[Band, ...]
    values: Cells
    valid: Mask | None = None

    def cells(self, pane: Pane) -> Block:
        rows, columns = pane.within(self.frame.pane)
        valid = None if self.valid is None else self.valid[..., rows, columns].copy()
        return Block(self.values[:, rows, columns].copy(), valid)


def frame(
    columns: int,
    rows: int,
    cell: float = 10.0,
    left: float = 730_000.0,
    top: float = 5_100_000.0,
    crs: Any = HOME,
) -> Frame:
    """A north-up frame near Marrowick."""
    return Frame(crs, Affine(left, top, cell, -cell), columns, rows)


def raster(cells: Cells, valid: Mask | None = None, where: Frame | None = None, **facts: Any) -> ArrayRaster:
    """`cells` (rows, columns) or (bands, rows, columns) as a raster; three bytes are a photo."""
    cells = cells[None] if cells.ndim == 2 else cells
    photo = cells.shape[0] == 3 and cells.dtype == np.uint8 and not facts
    bands = (
        RGB if photo else tuple(Band(f"band{n + 1}", cells.dtype.name, **facts) for n in range(len(cells)))
    )
    return ArrayRaster(where or frame(cells.shape[2], cells.shape[1]), bands, cells, valid)


def save(path: Path, source: Raster, **settings: str) -> Path:
    """Write `source` to `path` by the engine."""
    path.parent.mkdir(parents=True, exist_ok=True)
    sink = load(choose_format(path, None)).make_sink(path, source.frame, source.bands, settings)
    run(source, sink, Limits(workers=1))
    return path


def random_cells(*shape: int, kind: str = "uint8", seed: int = 1) -> Cells:
    """Any values of the type, the same in every run."""
    numbers = np.random.default_rng(seed)
    if np.dtype(kind).kind == "f":
        return numbers.normal(100, 1000, shape).astype(kind)
    limits = np.iinfo(kind)
    return numbers.integers(limits.min, limits.max, shape, dtype=kind, endpoint=True)


def opened(path: Path) -> xr.Dataset:
    """A NetCDF file or a Zarr store as another reader sees it."""
    if path.suffix == ".nc":
        return xr.open_dataset(path, engine="h5netcdf", decode_coords="all")
    store = zarr.storage.ZipStore(path, mode="r") if path.suffix == ".zip" else path
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return xr.open_dataset(store, engine="zarr", decode_coords="all")
