"""Zarr stores, versions 2 and 3 (folders in `.zarr`, or one file in `.zarr.zip`), with CF attributes.

Source: Zarr specifications version 2 and version 3, by way of the zarr package; CF 1.11 (see `cf`);
dimension names as in version 3, and as the attribute `_ARRAY_DIMENSIONS` in version 2; `multiscales` as a
list of `datasets` with `path` and `scale`. Bands are arrays of the root group in chunks of 512 x 512;
overviews are groups 1, 2, ... of half the size each.
"""

from __future__ import annotations

import base64
import math
import struct
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.damaged import DAMAGED
from zembrel.errors import InputError, UsageError
from zembrel.formats.cf.dataset import GriddedRaster, layer_names, open_dataset
from zembrel.formats.cf.variables import Variable, Variables, check_count
from zembrel.formats.sink import Sink
from zembrel.formats.zarrwriting import CHUNK, DIMENSIONS, ZarrStore
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.ondemand import on_demand
from zembrel.provenance import KEY, found
from zembrel.raster.halving import overview_methods
from zembrel.raster.model import Band, Block, Raster


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid `layer` of the store, `NAME`, `GROUP/NAME` or `NAME[time=2026-05-01]`. Raises InputError."""
    root, variables = _variables(path)
    own = dict(root.attrs)
    found(path, str(own.get(KEY, "")))
    if layer is None:
        shown = {name: v for name, v in variables.items() if not name.partition("/")[0].isdigit()}
        base = open_dataset(path, shown or variables, own, None)
        scales = _scales(root)
        return ScaledRaster(base, path, tuple(scales)) if scales else base
    return open_dataset(path, variables, own, layer)


def layers(path: Path) -> list[str]:
    return [name for name in layer_names(_variables(path)[1]) if not name.partition("/")[0].isdigit()]


def _root(path: Path) -> Any:
    import zarr

    try:
        store = (
            zarr.storage.ZipStore(path, mode="r")
            if path.is_file()
            else on_demand("zembrel.formats")("watchedstore").WatchedStore(path, read_only=True)
        )
        return zarr.open(store, mode="r")
    except Exception as exc:  # the package raises errors of many kinds for stores that are not whole
        raise InputError(
            f"{path} is no sound Zarr store",
            f"{exc}".splitlines()[0] if f"{exc}" else type(exc).__name__,
            "get it again",
        ) from exc


def _variables(path: Path) -> tuple[Any, Variables]:
    import zarr

    root = _root(path)
    found: dict[str, Variable] = {}
    if isinstance(root, zarr.Array):
        found[path.stem] = _variable(path.stem, root)
        return root, found
    try:
        for name, member in root.members(max_depth=None):
            if isinstance(member, zarr.Array):
                check_count(path, len(found) + 1)
                found[name] = _variable(name, member)
    except DAMAGED as exc:
        raise InputError(f"{path} is broken", f"{exc}".splitlines()[0], "get it again") from exc
    return root, found


def _variable(name: str, array: Any) -> Variable:
    attributes = dict(array.attrs)
    named = getattr(array.metadata, "dimension_names", None) or attributes.get(DIMENSIONS)
    dimensions = tuple(named) if named else tuple(f"axis{n + 1}" for n in range(array.ndim))
    if array.metadata.zarr_format == 2 and array.fill_value is not None:
        attributes.setdefault("_FillValue", array.fill_value)
    elif isinstance(attributes.get("_FillValue"), str):  # eight bytes of a float, as text
        attributes["_FillValue"] = _float_of(attributes["_FillValue"])
    return Variable(name, dimensions, array.shape, array.dtype, attributes, partial(_part, array))


def _float_of(text: str) -> float:
    try:
        return float(struct.unpack("<d", base64.standard_b64decode(text))[0])
    except (ValueError, struct.error):
        return math.nan


def _part(array: Any, index: tuple[Any, ...]) -> npt.NDArray[Any]:
    return np.asarray(array[index])


def _scales(root: Any) -> list[tuple[str, float]]:
    """Paths of overviews, and how many times larger their cells are."""
    listed = root.attrs.get("multiscales") or [{}]
    found = []
    for held in listed[0].get("datasets", []) if isinstance(listed, list) else []:
        name, scale = str(held.get("path", "")), held.get("scale")
        if name not in ("", ".") and isinstance(scale, int | float) and scale > 1 and name in root:
            found.append((name, float(scale)))
    return sorted(found, key=lambda entry: entry[1])


@dataclass(frozen=True, eq=False)
class ScaledRaster:
    """A grid of a store that holds overviews of it as well."""

    base: GriddedRaster
    path: Path
    scales: tuple[tuple[str, float], ...]

    @property
    def frame(self) -> Frame:
        return self.base.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.base.bands

    @property
    def remarks(self) -> tuple[str, ...]:
        return self.base.remarks

    @property
    def reduced(self) -> tuple[tuple[str, float], ...]:
        return self.scales

    def cells(self, pane: Pane) -> Block:
        return self.base.cells(pane)

    def coarser(self, step: float) -> Raster:
        """The coarsest overview whose cells are at most `step` times as large as these."""
        fitting = [name for name, scale in self.scales if scale <= step]
        if not fitting:
            return self
        root, variables = _variables(self.path)
        group = {n.partition("/")[2]: v for n, v in variables.items() if n.startswith(f"{fitting[-1]}/")}
        return open_dataset(self.path, group, dict(root[fitting[-1]].attrs), None)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a store. Raises UsageError for a turned frame or a setting out of range."""
    if not frame.north_up:
        raise UsageError(
            f"{path.name} would be turned",
            "axes of coordinates lie north up",
            "reproject it onto a frame first",
        )
    version, overviews = settings.get("version", "3"), settings.get("overviews", "auto").lower()
    if version not in ("2", "3"):
        raise UsageError(f"version={version} is none", "Zarr has versions 2 and 3", "write version=3")
    usual = "mode" if any(band.categorical for band in bands) else "mean"
    methods = overview_methods(overviews, bands, usual)
    store = ZarrStore(path, frame, bands, int(version), methods)
    return Sink(tuple(frame.pane.blocks(2 * CHUNK, 2 * CHUNK)), store.encoder(methods), store)
