"""From the variables of a container to rasters: which are layers, where they lie, what their bands are."""

from __future__ import annotations

import re
import struct
import zipfile
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError, nearest_name
from zembrel.formats.cf.attributes import band_of, valid_limits
from zembrel.formats.cf.axes import BANDS, FRAME, frame_of, in_degrees, in_units_of, is_x, is_y, names_along
from zembrel.formats.cf.gridmapping import crs_of
from zembrel.formats.sidecars import placed_beside
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Mask
from zembrel.raster.views.nodata import both, nodata_mask

# What containers raise for parts that they cannot decode.
DECODE_ERRORS = (
    OSError, RuntimeError, ValueError, KeyError, TypeError, EOFError, IndexError, AssertionError,
    struct.error, zipfile.BadZipFile, zlib.error,
)  # fmt: skip
Read = Callable[[tuple[Any, ...]], npt.NDArray[Any]]


class Variable(NamedTuple):
    """One array of a container: path, dimension names, shape, type, attributes, and how to read a part."""

    name: str
    dimensions: tuple[str, ...]
    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    attributes: Mapping[str, Any]
    read: Read


class Slice(NamedTuple):
    """What a band reads: a variable, indices of its other dimensions, and where its rows and columns are."""

    variable: Variable
    others: tuple[tuple[int, int], ...]  # axis and index
    row_axis: int
    column_axis: int
    limits: tuple[float, float] | None = None  # of stored numbers that are valid


Variables = Mapping[str, Variable]


@dataclass(frozen=True, eq=False)
class GriddedRaster:
    """Slices of variables on one frame."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    slices: tuple[Slice, ...]
    flipped: tuple[bool, bool]  # whether rows run to the north, and columns to the west
    remarks: tuple[str, ...] = ()

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if the container cannot decode a part of it."""
        rows = self._range(pane.top, pane.bottom, self.frame.rows, self.flipped[0])
        columns = self._range(pane.left, pane.right, self.frame.columns, self.flipped[1])
        kind = np.result_type(*(band.dtype for band in self.bands))
        cells = np.empty((len(self.bands), *pane.shape), kind)
        for out, part, band in zip(cells, self.slices, self.bands, strict=True):
            out[:] = self._part(part, rows, columns).astype(band.dtype, copy=False)
        if self.flipped[0]:
            cells = cells[:, ::-1]
        if self.flipped[1]:
            cells = cells[:, :, ::-1]
        cells = np.ascontiguousarray(cells)
        valid = both(nodata_mask(cells, self.bands), self._within_limits(cells))
        return Block(cells, None if valid is None or valid.all() else valid)

    def _within_limits(self, cells: Cells) -> Mask | None:
        if all(part.limits is None for part in self.slices):
            return None
        known = np.ones(cells.shape, bool)
        for layer, part, ok in zip(cells, self.slices, known, strict=True):
            if part.limits is not None:
                ok[:] = (layer >= part.limits[0]) & (layer <= part.limits[1])
        return known

    def _range(self, first: int, end: int, count: int, flipped: bool) -> slice:
        return slice(count - end, count - first) if flipped else slice(first, end)

    def _part(self, part: Slice, rows: slice, columns: slice) -> Cells:
        index: list[Any] = [slice(None)] * len(part.variable.shape)
        index[part.row_axis], index[part.column_axis] = rows, columns
        for axis, number in part.others:
            index[axis] = number
        found = _read(self.path, part.variable, tuple(index))
        return found.T if part.row_axis > part.column_axis else found


def _read(path: Path, variable: Variable, index: tuple[Any, ...]) -> npt.NDArray[Any]:
    """A part of a variable. Raises InputError if the container cannot decode it."""
    try:
        return variable.read(index)
    except DECODE_ERRORS as exc:
        raise InputError(
            f"{path} is broken", f"{variable.name} does not decode: {exc}", "get the file again"
        ) from exc


def layer_names(variables: Variables) -> list[str]:
    """The variables that are grids."""
    return [name for name, v in variables.items() if _is_grid(v, variables)]


def _is_grid(variable: Variable, variables: Variables) -> bool:
    named = {str(v.attributes.get(key)) for v in variables.values() for key in ("bounds", "grid_mapping")}
    for other in variables.values():  # coordinates of cells are no bands
        named |= set(str(other.attributes.get("coordinates", "")).split())
    return (
        len(variable.shape) >= 2
        and min(variable.shape) > 0
        and band_of(variable.name, variable.dtype, variable.attributes) is not None
        and variable.name not in named
        and variable.name.rpartition("/")[2] not in named
    )


def open_dataset(
    path: Path, variables: Variables, facts: Mapping[str, Any], layer: str | None
) -> GriddedRaster:
    """The grid `layer` of a container, or all its plain grids on one lattice as bands.

    facts: attributes of the whole container. layer: `NAME` or `NAME[DIMENSION=VALUE,...]`. Raises
    InputError, with what there is, for a layer that is not there or is no grid.
    """
    own, listed = facts.get(FRAME), str(facts.get(BANDS, "")).split()
    names = layer_names(variables)
    names.sort(key=lambda name: listed.index(name) if name in listed else len(listed))
    if not names:
        held = ", ".join(f"{v.name} {v.shape}" for v in list(variables.values())[:5]) or "nothing"
        raise InputError(f"{path} holds no grid", f"it holds {held}", "a grid has two dimensions or more")
    if layer is None:
        first = variables[names[0]]
        alike = [
            variables[name]
            for name in names
            if len(first.shape) == 2 and variables[name].dimensions == first.dimensions
        ]
        return _raster(path, variables, own, alike or [first], {})
    found = re.fullmatch(r"([^\[\]]+?)/?(?:\[(.*)\])?", layer)
    name = found[1].lstrip("/") if found else layer
    if found is None or name not in names:
        raise InputError(
            f"{path} has no layer {layer!r}", f"it has {', '.join(names[:12])}", nearest_name(name, names)
        )
    wanted = dict(part.strip().partition("=")[::2] for part in (found[2] or "").split(",") if part.strip())
    return _raster(path, variables, own, [variables[name]], wanted)


def _raster(
    path: Path, variables: Variables, own: Any, chosen: Sequence[Variable], wanted: Mapping[str, str]
) -> GriddedRaster:
    first = chosen[0]
    row_axis, column_axis = _axes(first, variables)
    remarks: list[str] = []
    frame, flipped = _frame(path, first, variables, own, (row_axis, column_axis), remarks)
    bands: list[Band] = []
    slices: list[Slice] = []
    for variable in chosen:
        for name, others in _others(path, variable, variables, (row_axis, column_axis), wanted):
            band = band_of(name, variable.dtype, variable.attributes)
            assert band is not None
            bands.append(band)
            slices.append(Slice(variable, others, row_axis, column_axis, valid_limits(variable.attributes)))
    return GriddedRaster(path, frame, tuple(bands), tuple(slices), flipped, tuple(remarks))


def _axes(variable: Variable, variables: Variables) -> tuple[int, int]:
    """Which axes are rows and columns: by their coordinates, else the last two."""
    count = len(variable.shape)
    row, column = count - 2, count - 1
    for axis, name in enumerate(variable.dimensions):
        attributes = _coordinate(name, variable, variables)
        facts = attributes.attributes if attributes is not None else {}
        if is_x(name, facts) and axis != count - 1:
            column = axis
        if is_y(name, facts):
            row = axis
    return (row, column) if row != column else (count - 2, count - 1)


def _coordinate(name: str, variable: Variable, variables: Variables) -> Variable | None:
    """The coordinate variable of a dimension, in the group of `variable` or above."""
    group = variable.name.rpartition("/")[0]
    while True:
        found = variables.get(f"{group}/{name}" if group else name)
        if found is not None and len(found.shape) == 1:
            return found
        if not group:
            return None
        group = group.rpartition("/")[0]


def _frame(
    path: Path, first: Variable, variables: Variables, own: Any, axes: tuple[int, int], remarks: list[str]
) -> tuple[Frame, tuple[bool, bool]]:
    y, x = (_coordinate(first.dimensions[axis], first, variables) for axis in axes)
    if x is None or y is None or x.dtype.kind not in "iuf" or y.dtype.kind not in "iuf":
        placed = placed_beside(path, first.shape[axes[1]], first.shape[axes[0]])
        bent = _curvilinear(first, variables)
        if bent:
            remarks += [f"its cells lie where {bent} say, one by one: such grids are not placed"]
            return replace(placed.frame, crs=UnresolvedCRS(f"grid bent by {bent}")), (False, False)
        remarks += ["no coordinates along its axes", *placed.remarks]
        return placed.frame, (False, False)
    crs = _crs(first, x, variables, remarks)
    xs, ys = (
        np.asarray(_read(path, v, (slice(None),)), float) * in_units_of(crs, v.attributes) for v in (x, y)
    )
    flipped = bool(ys.size > 1 and ys[0] < ys[-1]), bool(xs.size > 1 and xs[0] > xs[-1])
    xs, ys = (xs[::-1] if flipped[1] else xs), (ys[::-1] if flipped[0] else ys)
    return frame_of(path, xs, ys, crs, own), flipped


def _curvilinear(first: Variable, variables: Variables) -> str:
    """Names of the variables that tell a longitude and a latitude for each cell, if there are any."""
    named = str(first.attributes.get("coordinates", "")).split()
    told = [variables[name] for name in named if name in variables]
    bent = [
        v for v in told if len(v.shape) == 2 and (is_x(v.name, v.attributes) or is_y(v.name, v.attributes))
    ]
    return " and ".join(v.name for v in bent) if len(bent) == 2 else ""


def _crs(first: Variable, x: Variable, variables: Variables, remarks: list[str]) -> CRS | None:
    name = str(first.attributes.get("grid_mapping", "")).split(":")[0].strip()
    mapping = variables.get(name) or next(
        (v for v in variables.values() if v.name.endswith(f"/{name}")), None
    )
    if name and mapping is not None:
        try:
            return crs_of(mapping.attributes)
        except InputError as exc:
            remarks.append(f"its grid mapping is not understood: {exc.what}")
            return UnresolvedCRS(str(mapping.attributes.get("grid_mapping_name", name)))
    if in_degrees("east", x.attributes):
        remarks.append("longitude and latitude without a datum: taken for WGS 84")
        return by_code(4326)
    return None


def _others(
    path: Path, variable: Variable, variables: Variables, axes: tuple[int, int], wanted: Mapping[str, str]
) -> list[tuple[str, tuple[tuple[int, int], ...]]]:
    """Name and indices of each slice of the dimensions that are neither rows nor columns."""
    short = variable.name.rpartition("/")[2]
    fixed: list[tuple[int, int]] = []
    free: list[tuple[int, list[str]]] = []
    for axis, name in enumerate(variable.dimensions):
        if axis in axes:
            continue
        names = _names(path, name, variable, variables)
        if name in wanted:
            fixed.append((axis, _place(path, name, wanted[name], names)))
        elif variable.shape[axis] == 1:
            fixed.append((axis, 0))
        else:
            free.append((axis, names))
    unknown = set(wanted) - set(variable.dimensions)
    if unknown or len(free) > 1:
        dimensions = ", ".join(variable.dimensions[axis] for axis, _ in free) or ", ".join(
            variable.dimensions
        )
        raise InputError(
            f"{path}: {variable.name} has other dimensions"
            if not unknown
            else f"{path}: {variable.name} has no dimension {min(unknown)!r}",
            f"they are {dimensions}",
            f"pick with --layer '{variable.name}[{dimensions.split(', ')[0]}=...]'",
        )
    if not free:
        return [(short, tuple(fixed))]
    axis, names = free[0]
    return [(name, (*fixed, (axis, n))) for n, name in enumerate(names)]


def _names(path: Path, dimension: str, variable: Variable, variables: Variables) -> list[str]:
    held = _coordinate(dimension, variable, variables)
    if held is None:
        count = variable.shape[variable.dimensions.index(dimension)]
        return [f"{dimension}{n + 1}" for n in range(count)]
    return names_along(_read(path, held, (slice(None),)), held.attributes)


def _place(path: Path, dimension: str, value: str, names: Sequence[str]) -> int:
    """Index of `value` along a dimension, by name or number from 1. Raises InputError."""
    if value in names:
        return list(names).index(value)
    try:
        near = [float(name) for name in names]
        return near.index(float(value))
    except ValueError:
        pass
    if value.isdigit() and 1 <= int(value) <= len(names):
        return int(value) - 1
    raise InputError(
        f"{path} has no {dimension}={value}",
        f"there are {len(names)}, {names[0]} to {names[-1]}",
        nearest_name(value, names),
    )
