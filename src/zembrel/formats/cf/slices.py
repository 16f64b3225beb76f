"""The slices of a variable of more dimensions than rows and columns: indices, names and places."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError, nearest_name
from zembrel.formats.cf.axes import names_along
from zembrel.formats.cf.variables import Variable, Variables, coordinate_of, read_part
from zembrel.raster.model import Dimension, SlicePlace, Slot

_MOST_SLICES = 10_000
_OF_STORAGE = ("bounds", "climatology", "_FillValue", "_ARRAY_DIMENSIONS")  # attributes that are not carried


def slices_of(
    path: Path, variable: Variable, variables: Variables, axes: tuple[int, int], wanted: Mapping[str, str]
) -> list[tuple[str, tuple[tuple[int, int], ...], Slot | None]]:
    """Name, indices and slot of each slice of the dimensions that are neither rows nor columns."""
    unknown = set(wanted) - set(variable.dimensions)
    if unknown:
        raise InputError(
            f"{path}: {variable.name} has no dimension {min(unknown)!r}",
            f"its dimensions are {', '.join(variable.dimensions)}",
            f"pick with --layer '{variable.name}[{variable.dimensions[0]}=...]'",
        )
    fixed: list[list[tuple[int, int, SlicePlace]]] = []
    free: list[list[tuple[int, int, SlicePlace]]] = []
    named: dict[int, list[str]] = {}
    for axis, name in enumerate(variable.dimensions):
        if axis in axes:
            continue
        places, names = _places(path, name, variable, variables)
        named[axis] = names
        along = [(axis, n, place) for n, place in enumerate(places)]
        if name in wanted:
            fixed.append([along[_place(path, name, wanted[name], names)]])
        else:
            (fixed if len(along) == 1 else free).append(along)
    if math.prod(len(along) for along in free) > _MOST_SLICES:
        raise InputError(
            f"{path}: {variable.name} would be more than {_MOST_SLICES:,} bands",
            f"{', '.join(variable.dimensions[along[0][0]] for along in free)} are spread out",
            f"pick with --layer '{variable.name}[{variable.dimensions[free[0][0][0]]}=...]'",
        )
    short, held = variable.name.rpartition("/")[2], []
    for chosen in product(*fixed, *free):
        words = [named[axis][n] for axis, n, _ in chosen[len(fixed) :]]
        spread = tuple(place for _, _, place in sorted(chosen, key=lambda part: part[0]))
        slot = Slot(short, spread) if spread else None
        held.append((" ".join([short, *words]), tuple((axis, n) for axis, n, _ in chosen), slot))
    return held


def _places(
    path: Path, dimension: str, variable: Variable, variables: Variables
) -> tuple[list[SlicePlace], list[str]]:
    """The places along a dimension, and what they are called."""
    held = coordinate_of(dimension, variable, variables)
    count = variable.shape[variable.dimensions.index(dimension)]
    if held is None or held.shape != (count,):
        numbers = [f"{dimension}{n + 1}" for n in range(count)]
        return [SlicePlace(Dimension(dimension), n + 1) for n in range(count)], numbers
    values = [
        v.decode("utf-8", "replace") if isinstance(v, bytes) else v
        for v in read_part(path, held, (slice(None),)).tolist()
    ]
    facts = {key: value for key, value in held.attributes.items() if key not in _OF_STORAGE}
    bounds = _edges(path, held, variables)
    told = tuple((key, plain) for key, value in facts.items() if (plain := _plain(value)) is not None)
    edges = bounds if bounds is not None else [None] * count
    axis = Dimension(dimension, told)
    return [SlicePlace(axis, v, e) for v, e in zip(values, edges, strict=True)], names_along(values, facts)


def _plain(value: Any) -> Any:
    """An attribute as a value that can be compared: arrays as tuples; None for what CF has no place for."""
    if isinstance(value, np.ndarray | list | tuple):
        items = tuple(_plain(item) for item in (value.tolist() if isinstance(value, np.ndarray) else value))
        return None if None in items else items[0] if len(items) == 1 else items
    value = value.item() if isinstance(value, np.generic) else value
    return value if isinstance(value, str | int | float) else None


def _edges(path: Path, axis: Variable, variables: Variables) -> list[tuple[float, float]] | None:
    """Where the cells along a coordinate begin and end, if its `bounds` tell (CF 1.11, 7.1)."""
    group = axis.name.rpartition("/")[0]
    name = str(axis.attributes.get("bounds", ""))
    held = variables.get(f"{group}/{name}" if group else name)
    if held is None or held.shape != (*axis.shape, 2) or held.dtype.kind not in "iuf":
        return None
    return [(low, high) for low, high in read_part(path, held, (slice(None), slice(None))).tolist()]


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
