"""Features on a map: in classes, with hairline borders, and their legend."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from zembrel.draw.classes import Classes, classes_of
from zembrel.draw.ramps import colour_map
from zembrel.errors import EmptyInputError
from zembrel.features.table import FeatureTable
from zembrel.raster.legend import Legend

_PLAIN = (
    "#3f6f8f",
    "#b5533c",
    "#5b7f4b",
    "#8a6aa0",
    "#b08a3e",
)  # of layers without a field
_FEW, _MANY = "tab10", "tab20"
Entries = list[tuple[str, str]]  # colours and names of a legend
MISSING = "#c9c7c0"
_HAIR, _LINE, _DOT = 0.35, 1.0, 22.0  # points, and points squared
_EDGE = "#33332f"
_ROOM, _PIXELS = 16.0, 1100.0  # pixels of an area below which its outline thins out, and of a picture


@dataclass(frozen=True)
class ShapeLook:
    """How features are shown: coloured by a field, in so many classes of some way, by a ramp or a legend."""

    field: str | None = None
    classes: str = "quantile"
    count: int = 5
    ramp: str | None = None
    legend: Legend | None = None


def coloured(
    table: FeatureTable, look: ShapeLook, number: int
) -> tuple[list[str], list[tuple[str, str]], str]:
    """A colour for each feature, the entries of the legend, and what was chosen.

    number: of the layer, for its plain colour. Raises InputError for a field that is not there.
    """
    if look.field is None:
        colour = _PLAIN[number % len(_PLAIN)]
        return [colour] * len(table), [], "one colour"
    values = table.named(look.field)
    if look.legend is not None:
        return _by_legend(values, look.legend, look.field)
    found = classes_of(values, look.classes, look.count)
    colours = _palette(found, look, values)
    shown = [MISSING if n < 0 else colours[n] for n in found.numbers.tolist()]
    entries = list(zip(colours, found.names, strict=True))
    if (found.numbers < 0).any():
        entries.append((MISSING, "missing"))
    words = table.kinds[look.field] not in ("integer", "real")
    way = f"by {look.field}, {len(found.names)} {'words' if words else look.classes + ' classes'}"
    return shown, entries, way


def _by_legend(values: Any, legend: Legend, field: str) -> tuple[list[str], Entries, str]:
    by_code = {entry.code: entry for entry in legend.entries}
    by_name = {entry.name: entry for entry in legend.entries if entry.name}
    shown, used = [], {}
    for value in values.tolist():
        entry = by_code.get(value) or by_name.get(value)
        colour = MISSING if entry is None else _hex(entry.colour)
        shown.append(colour)
        if entry is not None:
            used[entry.code] = (colour, entry.name or str(entry.code))
    return shown, [used[code] for code in sorted(used)], f"by {field}, legend colours"


def _palette(found: Classes, look: ShapeLook, values: Any) -> list[str]:
    from matplotlib.colors import to_hex

    count = len(found.names)
    numbers = values.dtype != object or all(isinstance(v, int | float | None) for v in values.tolist())
    if not numbers and look.ramp is None:
        wheel = colour_map(_FEW if count <= 10 else _MANY)
        return [to_hex(wheel(n)) for n in range(count)]
    ramp = colour_map(look.ramp or "viridis")
    return [to_hex(ramp((n + 0.5) / max(count, 1))) for n in range(count)]


def _hex(colour: tuple[int, ...]) -> str:
    return "#" + "".join(f"{part:02x}" for part in colour[:3])


def draw_shapes(axes: Any, table: FeatureTable, colours: list[str], *, over: bool, hollow: bool) -> None:
    """Add the features to `axes`, in its coordinates.

    over: whether something lies below that areas let through; hollow: whether they are outlines alone. Raises
    InputError for none to draw.
    """
    from matplotlib.collections import LineCollection, PathCollection

    if not len(table):
        raise EmptyInputError("there is no feature to draw", "the layer is empty", "check --where")
    parts, owner = shapely.get_parts(table.geometries, return_index=True)
    while (shapely.get_type_id(parts) > 3).any():
        parts, inner = shapely.get_parts(parts, return_index=True)
        owner = owner[inner]
    kinds, shades = shapely.get_dimensions(parts), np.array(colours, object)[owner]
    areas, lines, points = kinds == 2, kinds == 1, kinds == 0
    if areas.any():
        paths = [_path(part) for part in parts[areas]]
        inner = list(shades[areas])
        thin = _HAIR * min(1.0, _size(parts[areas], table) / _ROOM)
        edge = (
            {"edgecolors": _EDGE, "linewidths": thin}
            if thin > _HAIR / 10
            else {"edgecolors": "face", "linewidths": 0.1}
        )
        style: dict[str, Any] = {"facecolors": inner} | edge
        style |= {"alpha": 0.6} if over else {}
        if hollow:
            style = {"facecolors": "none", "edgecolors": inner, "linewidths": _LINE}
        axes.add_collection(PathCollection(paths, **style), autolim=False)
    if lines.any():
        runs = [shapely.get_coordinates(part) for part in parts[lines]]
        axes.add_collection(LineCollection(runs, colors=list(shades[lines]), linewidths=_LINE), autolim=False)
    if points.any():
        places = shapely.get_coordinates(parts[points])
        axes.scatter(*places.T, s=_DOT, c=list(shades[points]), edgecolors=_EDGE, linewidths=_HAIR, zorder=3)


def _size(areas: Any, table: FeatureTable) -> float:
    """The side of a middling area, in pixels of a picture as wide as all of the table."""
    west, south, east, north = shapely.total_bounds(table.geometries).tolist()
    side = float(np.sqrt(np.median(shapely.area(areas))))
    return side / float(max(east - west, north - south, 1e-300)) * _PIXELS


def _path(polygon: shapely.Geometry) -> Any:
    from matplotlib.path import Path as Outline

    turned = shapely.orient_polygons(polygon)
    rings = [shapely.get_coordinates(ring) for ring in (turned.exterior, *turned.interiors)]
    codes = [
        np.array([Outline.MOVETO] + [Outline.LINETO] * (len(ring) - 2) + [Outline.CLOSEPOLY])
        for ring in rings
    ]
    return Outline(np.concatenate(rings), np.concatenate(codes))
