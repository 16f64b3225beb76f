"""LinesToFollow to follow: from coordinates, features, or corners; and places along them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.features.files.catalogue import is_features
from zembrel.features.files.named import named_layer, split_layer
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS
from zembrel.geodesy.geodesic import between
from zembrel.grid.area import split_crs
from zembrel.grid.frame import Frame
from zembrel.inputs.options import Inputs
from zembrel.inputs.tables import open_table
from zembrel.reading import readings

Array = npt.NDArray[np.float64]
CORNERS = "corners"
_MOST = 200_000  # samples


class LinesToFollow(NamedTuple):
    """Lines, each (n, 2) x and y in a CRS."""

    parts: tuple[Array, ...]
    crs: CRS | None


class Samples(NamedTuple):
    """Places along lines: which line each is on (from 0), how far from its start, and x and y."""

    line: npt.NDArray[np.int64]
    along: Array
    x: Array
    y: Array


def find_lines(phrase: str, frame: Frame, inputs: Inputs) -> LinesToFollow:
    """The lines that a phrase means: `x,y,x,y[@CRS]` in the CRS of `frame` if none is said, a file of
    features, or `corners`, from the lower left to the upper right one.

    Raises UsageError or InputError for what is no line.
    """
    if phrase == CORNERS:
        west, south, east, north = frame.bounds
        return LinesToFollow((np.array([[west, south], [east, north]]),), frame.crs)
    path, layer = split_layer(phrase)
    if is_features(path) or path.exists():
        return _of_features(named_layer(phrase)[0], replace(inputs, layer=layer))
    numbers, crs = split_crs(phrase)
    try:
        places = np.array([float(part) for part in numbers.split(",")]).reshape(-1, 2)
    except ValueError as exc:
        raise UsageError(
            f"--along {phrase}", "pairs of coordinates are needed, a file of lines, or corners",
            "write --along X,Y,X,Y",
        ) from exc  # fmt: skip
    if len(places) < 2 or not np.isfinite(places).all() or (places == places[0]).all():
        raise UsageError(f"--along {phrase}", "a line has two different ends", "write --along X,Y,X,Y")
    return LinesToFollow((places,), frame.crs if crs is None else crs)


def _of_features(path: Path, inputs: Inputs) -> LinesToFollow:
    table = open_table(Origin.of(readings.note(path)), inputs)
    parts = []
    for geometry in shapely.get_parts(table.geometries[~shapely.is_missing(table.geometries)]):
        if geometry.geom_type not in ("LineString", "LinearRing"):
            raise InputError(
                f"{path} holds other things than lines",
                f"one is a {geometry.geom_type}",
                "pick lines with --along-where",
            )
        parts.append(shapely.get_coordinates(geometry))
    if not parts:
        raise InputError(f"{path} holds no line", "there is nothing to follow", "check --along-where")
    return LinesToFollow(tuple(parts), table.crs)


def sampled(lines: LinesToFollow, step: float) -> Samples:
    """Places from one end to the other, at most `step` units of the CRS apart, corners included.

    Distances are metres of the geodesics between them where the CRS lies on the Earth, else units.
    """
    made, total = [], 0
    for number, corners in enumerate(lines.parts):
        lengths = np.hypot(*np.diff(corners, axis=0).T)
        counts = np.maximum(np.ceil(lengths / step - 1e-9), 1).astype(np.int64)
        total += int(counts.sum()) + 1
        if total > _MOST:
            raise RefusedError(
                f"the lines have more than {_MOST:,} samples",
                "that is no profile any more",
                "add --step LENGTH",
            )
        shares = [np.arange(count) / count for count in counts]
        pieces = [
            a + share[:, None] * (b - a) for a, b, share in zip(corners, corners[1:], shares, strict=False)
        ]
        places = np.vstack([*pieces, corners[-1:]])
        along = np.concatenate([[0.0], np.cumsum(_apart(places, lines.crs))])
        made.append(Samples(np.full(len(places), number), along, places[:, 0], places[:, 1]))
    return Samples(*(np.concatenate(parts) for parts in zip(*made, strict=True)))


def _apart(places: Array, crs: CRS | None) -> Array:
    """Distances from each place to the next."""
    if isinstance(crs, GeographicCRS | ProjectedCRS):
        lon, lat = crs.to_geographic(places[:, 0], places[:, 1])
        metres, _ = between(crs.datum.ellipsoid, lon[:-1], lat[:-1], lon[1:], lat[1:])
        return np.asarray(metres)
    return np.asarray(np.hypot(*np.diff(places, axis=0).T))


def on_earth(crs: CRS | None) -> bool:
    """Whether distances are metres."""
    return isinstance(crs, GeographicCRS | ProjectedCRS)
