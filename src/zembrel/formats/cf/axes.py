"""Coordinate variables: from a frame to the arrays of its axes, and back."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import InputError
from zembrel.formats.lattice import lattice_of
from zembrel.geodesy.crs import CRS, GeographicCRS
from zembrel.grid.frame import Array, Frame
from zembrel.grid.framefile import frame_from, frame_table
from zembrel.measure import LENGTHS
from zembrel.nested import json_of

FRAME, BANDS = "zembrel_frame", "zembrel_bands"
_X = ("x", "lon", "longitude", "easting", "xc", "west_east", "rlon")
_Y = ("y", "lat", "latitude", "northing", "yc", "south_north", "rlat")
_SHORT = {
    "metre": "m", "meter": "m", "kilometre": "km", "kilometer": "km", "centimetre": "cm", "centimeter": "cm",
    "foot": "ft", "feet": "ft", "us_survey_foot": "usft", "us_survey_feet": "usft",
}  # fmt: skip


class Axis(NamedTuple):
    """A coordinate variable as it is written: name, values (n,), edges (n, 2) or None, attributes."""

    name: str
    values: Array
    edges: Array | None
    attributes: dict[str, Any]


def axes_of(frame: Frame) -> tuple[Axis, Axis]:
    """The axes of rows and columns of a north-up frame."""
    degrees = isinstance(frame.crs, GeographicCRS)
    rotated = not degrees and frame.crs is not None and frame.crs.unit.kind == "angle"
    columns, rows = np.arange(frame.columns, dtype=float), np.arange(frame.rows, dtype=float)
    x, _ = frame.centres(columns, np.zeros(1))
    _, y = frame.centres(np.zeros(1), rows)
    u, _ = frame.corners.at(np.arange(frame.columns + 1.0), np.zeros(1))
    _, v = frame.corners.at(np.zeros(1), np.arange(frame.rows + 1.0))
    made = []
    for name, values, ends, word, way in (
        ("lat" if degrees else "y", y, v, "latitude", "north"),
        ("lon" if degrees else "x", x, u, "longitude", "east"),
    ):
        standard = f"grid_{word}" if rotated else word if degrees else f"projection_{name}_coordinate"
        attributes = {
            "standard_name": standard,
            "long_name": word if degrees else f"{way}ing",
            "units": f"degrees_{way}" if degrees else "degrees" if rotated else _unit(frame.crs),
            "axis": "Y" if way == "north" else "X",
        }
        edges = np.stack([ends[:-1], ends[1:]], axis=1) if frame.registration == "cell" else None
        if edges is not None:
            attributes["bounds"] = f"{name}_bounds"
        made.append(Axis(name, np.asarray(values), edges, attributes))
    return made[0], made[1]


def _unit(crs: CRS | None) -> str:
    names = {"metre": "m", "foot": "ft", "US survey foot": "US_survey_foot", "kilometre": "km"}
    return "m" if crs is None else names.get(crs.unit.name, f"{crs.unit.factor!r} m")


def is_x(name: str, attributes: Mapping[str, Any]) -> bool:
    """Whether a coordinate variable counts eastwards."""
    return _is("x", "east", "longitude", _X, name, attributes)


def is_y(name: str, attributes: Mapping[str, Any]) -> bool:
    """Whether a coordinate variable counts northwards."""
    return _is("y", "north", "latitude", _Y, name, attributes)


def in_degrees(way: str, attributes: Mapping[str, Any]) -> bool:
    """Whether an axis is in degrees `east` or `north`, in any of the spellings of CF 1.11, 4.1 and 4.2."""
    unit = str(attributes.get("units", "")).lower()
    return re.fullmatch(f"degrees?_?({way}|{way[0]})", unit) is not None


def _is(
    axis: str, way: str, word: str, names: tuple[str, ...], name: str, attributes: Mapping[str, Any]
) -> bool:
    if "axis" in attributes:
        return str(attributes["axis"]).lower() == axis
    standard = (word, f"grid_{word}", f"projection_{axis}_coordinate")
    return attributes.get("standard_name") in standard or in_degrees(way, attributes) or name.lower() in names


def in_units_of(crs: CRS | None, attributes: Mapping[str, Any]) -> float:
    """Units of `crs` in one of the unit that an axis names (CF 1.11, 3.1); 1 for no length."""
    if crs is None or crs.unit.kind != "length":
        return 1.0
    found = re.fullmatch(r"([0-9.eE+-]+)?\s*([A-Za-z_]+)", str(attributes.get("units", "")).strip())
    word = found[2].lower().removesuffix("s") if found else ""
    size = LENGTHS.get(_SHORT.get(word, word))
    if found is None or size is None:
        return 1.0
    try:
        metres = float(found[1] or 1.0) * float(size)
    except ValueError:
        return 1.0
    factor = metres / crs.unit.factor
    return 1.0 if abs(factor - 1) < 1e-12 else factor


def frame_of(
    path: Path,
    x: Array,
    y: Array,
    crs: CRS | None,
    own: Any = None,
    *,
    nodes: bool = False,
) -> Frame:
    """The frame of axes x (n,) and y (m,), whichever way they run; `own` is the frame as we wrote it.

    Ours counts only where it still fits. Raises InputError for axes that are no lattice.
    """
    if own is not None:
        try:
            frame = frame_from(path, json_of(str(own)))
        except (ValueError, InputError):
            frame = None
        if frame is not None and (frame.columns, frame.rows) == (x.size, y.size):
            rows, columns = axes_of(frame)
            if np.array_equal(columns.values, x) and np.array_equal(rows.values, y):
                return Frame(crs or frame.crs, frame.affine, frame.columns, frame.rows, frame.registration)
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise InputError(f"{path} has coordinates that are no numbers", "its place is unknown", "correct it")
    frame = lattice_of(path, np.unique(x), np.unique(y), crs, x.size * y.size)
    if (frame.columns, frame.rows) != (x.size, y.size):
        raise InputError(
            f"{path} has axes that are no lattice",
            f"{x.size} x {y.size} values lie on {frame.columns} x {frame.rows} places",
            "such grids are not read",
        )
    if not nodes:
        return frame
    affine = replace(frame.affine, x0=float(x[0]), y0=float(y[0]))
    return Frame(crs, affine, frame.columns, frame.rows, "node")


def frame_text(frame: Frame) -> str:
    """A frame as the attribute of our own holds it."""
    return json.dumps(frame_table(frame))


def names_along(values: Sequence[float | int | str], attributes: Mapping[str, Any]) -> list[str]:
    """What the places along another axis are called: dates of a time axis, else its numbers or words."""
    unit = str(attributes.get("units", ""))
    if " since " in unit and all(isinstance(value, int | float) and math.isfinite(value) for value in values):
        import cftime

        try:
            dates = cftime.num2date(values, unit, str(attributes.get("calendar", "standard")))
        except (ValueError, OverflowError, TypeError):  # of a unit or a calendar that is none
            pass
        else:
            return [date.isoformat().removesuffix("T00:00:00") for date in dates]
    return [f"{value:g}" if isinstance(value, float) else str(value) for value in values]
