"""From the variables of a container to rasters: which are layers, where they lie, what their bands are."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import InputError, nearest_name
from zembrel.formats.cf.attributes import band_of, valid_limits
from zembrel.formats.cf.axes import BANDS, FRAME, frame_of, in_degrees, in_units_of, is_x, is_y
from zembrel.formats.cf.gridmapping import crs_of
from zembrel.formats.cf.slices import slices_of
from zembrel.formats.cf.variables import Variable, Variables, coordinate_of, read_part
from zembrel.formats.sidecars import placed_beside
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Mask
from zembrel.raster.views.nodata import both, nodata_mask


class Slice(NamedTuple):
    """What a band reads: a variable, indices of its other dimensions, and where its rows and columns are."""

    variable: Variable
    others: tuple[tuple[int, int], ...]  # axis and index
    row_axis: int
    column_axis: int
    limits: tuple[float, float] | None = None  # of stored numbers that are valid


@dataclass(frozen=True, eq=False)
class GriddedRaster:
    """Slices of variables on one frame."""

    path: Path
    frame: Frame
    bands: tuple[Band, ...]
    slices: tuple[Slice, ...]
    flipped: tuple[bool, bool]  # whether rows run to the north, and columns to the west
    remarks: tuple[str, ...] = ()

    def with_bands(self, picked: tuple[int, ...]) -> GriddedRaster:
        """The bands of these indices alone."""
        bands = tuple(self.bands[n] for n in picked)
        return replace(self, bands=bands, slices=tuple(self.slices[n] for n in picked))

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if the container cannot decode a part of it."""
        rows = self._range(pane.top, pane.bottom, self.frame.rows, self.flipped[0])
        columns = self._range(pane.left, pane.right, self.frame.columns, self.flipped[1])
        kind = np.result_type(*(band.dtype for band in self.bands))
        cells = np.empty((len(self.bands), *pane.shape), kind)
        for run in self._runs:
            kinds = self.bands[run.start].dtype
            cells[run] = self._part(self.slices[run], rows, columns).astype(kinds, copy=False)
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

    @cached_property
    def _runs(self) -> list[slice]:
        """Bands that follow each other along one dimension, which are read at once."""
        runs = [slice(0, 1)]
        for n in range(1, len(self.slices)):
            first = self.slices[runs[-1].start]
            if _along(first, self.slices[n]) == n - runs[-1].start:
                runs[-1] = slice(runs[-1].start, n + 1)
            else:
                runs.append(slice(n, n + 1))
        return runs

    def _part(self, parts: Sequence[Slice], rows: slice, columns: slice) -> Cells:
        """The cells of parts that follow each other, (parts, rows, columns)."""
        first = parts[0]
        index: list[Any] = [slice(None)] * len(first.variable.shape)
        index[first.row_axis], index[first.column_axis] = rows, columns
        for axis, number in first.others:
            index[axis] = number
        if first.others:
            axis, number = first.others[-1]
            index[axis] = slice(number, number + len(parts))
        found = read_part(self.path, first.variable, tuple(index))
        left = [axis for axis, wanted in enumerate(index) if isinstance(wanted, slice)]
        last = [left.index(first.row_axis), left.index(first.column_axis)]
        return np.moveaxis(found, last, (-2, -1)).reshape(len(parts), *(found.shape[axis] for axis in last))


def _along(first: Slice, other: Slice) -> int | None:
    """How many places `other` is further along the last dimension, if that is all they differ in."""
    if first.variable is not other.variable or not first.others:
        return None
    (*rest, (axis, start)), (*others, (_, place)) = first.others, other.others
    return place - start if rest == others and axis == other.others[-1][0] else None


def layer_names(variables: Variables) -> list[str]:
    """The variables that are grids."""
    named: set[str] = set()  # bounds, grid mappings and coordinates of cells are no bands
    for held in variables.values():
        named |= {str(held.attributes.get(key)) for key in ("bounds", "grid_mapping")}
        named |= set(str(held.attributes.get("coordinates", "")).split())
    return [name for name, held in variables.items() if _is_grid(held, named)]


def _is_grid(variable: Variable, named: set[str]) -> bool:
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
    place = {name: n for n, name in enumerate(listed)}
    names.sort(key=lambda name: place.get(name, len(place)))
    if not names:
        raise _no_grid(path, variables)
    if layer is None:
        first = variables[names[0]]
        chosen = [name for name in listed if name in names] or [
            name for name in names if len(first.shape) == 2 and variables[name].dimensions == first.dimensions
        ]
        chosen = chosen or names[:1]
        found = _raster(path, variables, own, [variables[name] for name in chosen], {})
        left = [name for name in names if name not in chosen]
        also = f"holds {', '.join(left[:12])} too: --layer {left[0]} takes it, '*' all" if left else ""
        return replace(found, remarks=(*found.remarks, also)) if left else found
    asked = re.fullmatch(r"([^\[\]]+?)/?(?:\[(.*)\])?", layer)
    name = asked[1].lstrip("/") if asked else layer
    if asked is not None and name in variables and name not in names:
        raise _no_grid(path, {name: variables[name]})
    if asked is None or name not in names:
        raise InputError(
            f"{path} has no layer {layer!r}", f"it has {', '.join(names[:12])}", nearest_name(name, names)
        )
    wanted = dict(part.strip().partition("=")[::2] for part in (asked[2] or "").split(",") if part.strip())
    return _raster(path, variables, own, [variables[name]], wanted)


def _no_grid(path: Path, variables: Variables) -> InputError:
    """The error that says what is there in place of grids."""
    wide = [v for v in variables.values() if len(v.shape) >= 2 and min(v.shape) > 0]
    odd = [v for v in wide if band_of(v.name, v.dtype, v.attributes) is None]
    if odd:
        held = ", ".join(f"{v.name} of {_called(v.dtype)}" for v in odd[:5])
        return InputError(
            f"{path} holds no grid of plain numbers",
            f"it holds {held}",
            "whole numbers of 8 to 64 bits and floats of 16, 32 and 64 bits are read",
        )
    held = ", ".join(f"{v.name} {v.shape}" for v in list(variables.values())[:5]) or "nothing"
    return InputError(f"{path} holds no grid", f"it holds {held}", "a grid has two dimensions or more")


def _called(dtype: np.dtype[Any]) -> str:
    """What numbers of a type are called."""
    return {"c": "complex numbers", "S": "text", "U": "text", "O": "text or objects", "V": "records",
            "M": "dates", "m": "spans of time"}.get(dtype.kind, dtype.name)  # fmt: skip


def _raster(
    path: Path, variables: Variables, own: Any, chosen: Sequence[Variable], wanted: Mapping[str, str]
) -> GriddedRaster:
    first = chosen[0]
    remarks: list[str] = []
    frame, flipped = _frame(path, first, variables, own, _axes(first, variables), remarks)
    bands: list[Band] = []
    slices: list[Slice] = []
    for variable in chosen:
        row_axis, column_axis = axes = _axes(variable, variables)
        for name, others, slot in slices_of(path, variable, variables, axes, wanted):
            band = band_of(name, variable.dtype, variable.attributes)
            assert band is not None
            bands.append(replace(band, slot=slot))
            slices.append(Slice(variable, others, row_axis, column_axis, valid_limits(variable.attributes)))
    return GriddedRaster(path, frame, tuple(bands), tuple(slices), flipped, tuple(remarks))


def _axes(variable: Variable, variables: Variables) -> tuple[int, int]:
    """Which axes are rows and columns: by their coordinates, else the last two."""
    count = len(variable.shape)
    row, column = count - 2, count - 1
    for axis, name in enumerate(variable.dimensions):
        attributes = coordinate_of(name, variable, variables)
        facts = attributes.attributes if attributes is not None else {}
        if is_x(name, facts) and axis != count - 1:
            column = axis
        if is_y(name, facts):
            row = axis
    return (row, column) if row != column else (count - 2, count - 1)


def _frame(
    path: Path, first: Variable, variables: Variables, own: Any, axes: tuple[int, int], remarks: list[str]
) -> tuple[Frame, tuple[bool, bool]]:
    y, x = (coordinate_of(first.dimensions[axis], first, variables) for axis in axes)
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
        np.asarray(read_part(path, v, (slice(None),)), float) * in_units_of(crs, v.attributes) for v in (x, y)
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
