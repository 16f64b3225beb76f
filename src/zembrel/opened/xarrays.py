"""Rasters to xarray and back, by the CF conventions. Source: CF 1.11, chapters 2.5, 3.1, 4 and 5.6."""

from __future__ import annotations

import importlib
from dataclasses import dataclass
from typing import Any

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.cf.gridmapping import mapping_attributes
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block

_UNEVEN = 1e-6  # of a cell by which coordinates may miss their place


def as_data_array(raster: Any) -> Any:
    """A `DataArray` (band, y, x) of a raster; void cells are NaN, those of classes `_FillValue`."""
    try:
        xarray: Any = importlib.import_module("xarray")
    except ImportError as exc:
        raise UsageError("to_xarray needs xarray", "it is not installed", "install xarray") from exc
    frame: Frame = raster.frame
    if not frame.north_up:
        what = "a turned raster has no coordinates along its axes"
        raise UsageError(what, "x and y change with rows and columns alike", "reproject it first")
    values, fill = raster.filled()
    x, _ = frame.centres(np.arange(frame.columns, dtype=float), np.zeros(frame.columns))
    _, y = frame.centres(np.zeros(frame.rows), np.arange(frame.rows, dtype=float))
    coordinates: dict[str, Any] = {"band": [band.name for band in raster.bands], "y": y, "x": x}
    attributes: dict[str, Any] = {"_FillValue": fill} if fill is not None else {}
    attributes |= {"units": raster.bands[0].unit} if raster.bands[0].unit else {}
    if frame.crs is not None and not isinstance(frame.crs, UnresolvedCRS):
        about = mapping_attributes(frame.crs) | {"crs_wkt": write_crs(frame.crs, "wkt2")}
        coordinates["crs"] = xarray.Variable((), 0, about)
        attributes["grid_mapping"] = "crs"
    return xarray.DataArray(values, coordinates, ("band", "y", "x"), attrs=attributes)


@dataclass(frozen=True, eq=False)
class HeldRaster:
    """A raster in memory: cells (bands, rows, columns), and where they are valid, None for all."""

    frame: Frame
    bands: tuple[Band, ...]
    values: Any
    valid: Any = None

    def cells(self, pane: Pane) -> Block:
        part = slice(pane.top, pane.bottom), slice(pane.left, pane.right)
        valid = None if self.valid is None else self.valid[(slice(None), *part)].copy()
        return Block(self.values[(slice(None), *part)].copy(), valid)


def held_raster(data: Any, crs: CRS | None) -> HeldRaster:
    """The raster of a `DataArray` whose last two dimensions are y and x, at even steps.

    crs: if the array does not tell it by its grid mapping. Raises InputError for coordinates that are
    missing or uneven, and for cells that are no numbers.
    """
    if data.ndim not in (2, 3):
        what = f"an array of {data.ndim} dimensions is no raster"
        raise InputError(what, "it has rows, columns and perhaps bands", "pick one of the others with isel")
    if data.dtype.kind not in "iufb":
        raise InputError(
            f"cells of {data.dtype} are no numbers", "a band has numbers", "give it numbers first"
        )
    values = np.asarray(data.values)
    values = values[None] if values.ndim == 2 else values
    down, across = data.dims[-2:]
    x0, step_x = _steps(data, str(across))
    y0, step_y = _steps(data, str(down))
    if step_y > 0:  # rows from south to north
        values, y0, step_y = values[:, ::-1], y0 + step_y * (values.shape[1] - 1), -step_y
    if step_x < 0:
        values, x0, step_x = values[:, :, ::-1], x0 + step_x * (values.shape[2] - 1), -step_x
    affine = Affine(x0 - step_x / 2, y0 - step_y / 2, step_x, step_y)
    frame = Frame(crs or _told(data), affine, values.shape[2], values.shape[1])
    names = (
        [str(name) for name in data[data.dims[0]].values] if data.ndim == 3 else [str(data.name or "value")]
    )
    fill = data.attrs.get("_FillValue", data.encoding.get("_FillValue"))
    kind = values.dtype.name if values.dtype.kind in "iuf" and values.dtype.itemsize <= 8 else "float64"
    values = np.ascontiguousarray(values, kind)
    valid = ~np.isnan(values) if values.dtype.kind == "f" else np.ones(values.shape, bool)
    valid &= values != fill if fill is not None and not np.isnan(float(fill)) else True
    unit = str(data.attrs.get("units", ""))
    bands = tuple(Band(name, kind, nodata=None if fill is None else float(fill), unit=unit) for name in names)
    return HeldRaster(frame, bands, values, None if valid.all() else valid)


def _steps(data: Any, axis: str) -> tuple[float, float]:
    """The first coordinate of an axis and the step. Raises InputError without even coordinates."""
    if axis not in data.coords or data[axis].dtype.kind not in "iuf":
        what = f"the axis {axis} has no coordinates that are numbers"
        raise InputError(what, "they say where the cells are", "give it some with assign_coords")
    places = np.asarray(data[axis].values, float)
    if len(places) < 2:
        what = f"the axis {axis} has {len(places)} place"
        raise InputError(what, "a cell size is the distance of two", "keep at least two rows and columns")
    step = (places[-1] - places[0]) / (len(places) - 1)
    if not step or np.abs(places - (places[0] + step * np.arange(len(places)))).max() > abs(step) * _UNEVEN:
        what = f"the coordinates of {axis} are not at even steps"
        raise InputError(what, "a frame has cells of one size", "interpolate the array to even steps first")
    return float(places[0]), float(step)


def _told(data: Any) -> CRS | None:
    """The CRS that an array's grid mapping tells; None if it tells none."""
    name = data.attrs.get("grid_mapping") or data.encoding.get("grid_mapping")
    if name is None or name not in data.coords:
        return None
    about = data.coords[name].attrs
    text = about.get("crs_wkt") or about.get("spatial_ref")
    return read_crs(str(text)) if text else None
