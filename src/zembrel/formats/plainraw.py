"""Raw grids without a header (`.r16`, `.r32`, `.raw`): cells and nothing else, in a layout that is told.

A layout is `columns=1025,rows=1025,type=uint16,order=little,first=north,skip=0`; order, first and skip may be
left out. Without one, `.r16` is taken for a square of little-endian uint16 and `.r32` for one of float32, if
the size of the file allows. The place is in a world file and a `.prj` beside.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import InputError, RefusedError, UsageError, nearest_name
from zembrel.formats.raw import RawCells, order_of, raw_sink
from zembrel.formats.sidecars import placed_beside
from zembrel.formats.sink import Sink
from zembrel.formats.strided import RawLayout
from zembrel.formats.whole import only_layer
from zembrel.grid.frame import Frame
from zembrel.handles import file_handles
from zembrel.raster.model import TYPES, Band, Raster, shared_type

_KEYS = ("columns", "rows", "type", "order", "first", "skip", "bands")
_SQUARES = {".r16": "uint16", ".r32": "float32"}
_FIRST = ("north", "south")

layers = only_layer


class Described(NamedTuple):
    """A layout as told."""

    columns: int
    rows: int
    type: str
    order: str = "<"
    first: str = "north"
    skip: int = 0
    bands: int = 1


def parse_layout(text: str) -> Described:
    """The layout that `text` describes. Raises UsageError naming the key that is wrong."""
    found: dict[str, Any] = {}
    for part in text.split(","):
        key, _, value = part.strip().partition("=")
        if key not in _KEYS:
            raise UsageError(
                f"a layout has no key {key!r}", f"it has {', '.join(_KEYS)}", nearest_name(key, _KEYS)
            )
        choices = {"type": TYPES, "order": ("little", "big"), "first": _FIRST}.get(key)
        if choices is None:
            if not value.isdigit() or (key != "skip" and int(value) < 1):
                raise UsageError(
                    f"{key}={value} is no number of them", "a whole number is needed", f"write {key}=1"
                )
            found[key] = int(value)
        elif value.lower() not in choices:
            raise UsageError(
                f"{key}={value} is unclear", "one of a few is needed", nearest_name(value, choices)
            )
        else:
            found[key] = value.lower()
    missing = [key for key in ("columns", "rows", "type") if key not in found]
    if missing:
        raise UsageError(f"the layout lacks {', '.join(missing)}", f"it says {text}", f"add {missing[0]}=...")
    found["order"] = ">" if found.get("order") == "big" else "<"
    return Described(**found)


def open_raster(path: Path, layer: str | None) -> Raster:
    """The square that the ending and size of `path` suggest. Raises InputError if they do not."""
    size, kind = file_handles.renew(path).size, _SQUARES.get(path.suffix.lower())
    side = 0 if kind is None else math.isqrt(size // np.dtype(kind).itemsize)
    if kind is None or not side or side * side * np.dtype(kind).itemsize != size:
        raise InputError(
            f"{path} does not say how its bytes are to be read",
            f"it has {size:,} of them and no header",
            "add --from-layout columns=...,rows=...,type=uint16",
        )
    return open_as(path, Described(side, side, kind))


def open_as(path: Path, told: Described) -> Raster:
    """The grid at `path` in the layout `told`. Raises InputError if the file is too short for it."""
    size, kind = file_handles.renew(path).size, np.dtype(told.type)
    row, plane = told.columns * kind.itemsize, told.columns * told.rows * kind.itemsize
    due = told.skip + told.bands * plane
    if size < due:
        raise InputError(
            f"{path} is shorter than its layout",
            f"it has {size:,} bytes where {told.columns} x {told.rows} cells of {told.type} make {due:,}",
            "correct --from-layout, or get the file again",
        )
    up = told.first == "south"
    dtype = np.dtype(told.order + kind.str[1:]) if kind.itemsize > 1 else kind
    layout = RawLayout(
        dtype, told.skip + (plane - row if up else 0), plane, -row if up else row, kind.itemsize
    )
    bands = tuple(Band(f"band{n + 1}", told.type) for n in range(told.bands))
    placed = placed_beside(path, told.columns, told.rows)
    return RawCells(path, placed.frame, bands, layout, placed.remarks)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink of cells alone. Raises RefusedError if the ending asks for cells of another size."""
    kind, bits = shared_type(bands), path.suffix[2:]
    if bits.isdigit() and 8 * kind.itemsize != int(bits):
        raise RefusedError(
            f"{path.name} would hold {kind.name}",
            f"its ending says cells of {bits} bits",
            "add --type, or end it in .raw",
        )
    first = settings.get("first", "north").lower()
    if first not in _FIRST:
        raise UsageError(
            f"first={first} is unclear", "the first row is north or south", nearest_name(first, _FIRST)
        )
    return raw_sink(path, frame, bands, np.dtype(order_of(settings) + kind.str[1:]), upward=first == "south")
