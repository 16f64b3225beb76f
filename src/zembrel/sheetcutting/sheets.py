"""What can be told of sheets before they are joined: gaps between them, collars, odd ones out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.features.files.named import read_named
from zembrel.geodesy.crs import label, same
from zembrel.grid.extent import operation_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.raster.model import is_photo, shared_type
from zembrel.results.phrases import show_cell

_SIDES = 8  # points along a side of an outline
_SLACK = 2  # cells by which outlines may miss each other without a gap
_LOOKED_AT = 32  # sheets in whose corners collars are looked for
_CORNER = 48  # cells along a side of a corner
_NEAR_BLACK = 4  # highest value in every band that still counts as collar
_DARK = 0.25  # share of near-black cells from which a corner is part of a collar


def outline(frame: Frame, target: Frame) -> Any:
    """The outline of `frame` as a polygon in the CRS of `target`."""
    import shapely

    way = np.linspace(0, 1, _SIDES, endpoint=False)
    none = np.zeros(_SIDES)
    cols = np.concatenate([way, none + 1, 1 - way, none]) * frame.columns
    rows = np.concatenate([none, way, none + 1, 1 - way]) * frame.rows
    x, y = frame.corners.at(cols, rows)
    if frame.crs is not None and target.crs is not None and not same(frame.crs, target.crs):
        x, y = operation_of(frame, target.crs)(np.asarray(x), np.asarray(y))
    points = np.column_stack([x, y])
    return shapely.Polygon(points[np.isfinite(points).all(axis=1)])


def gaps(frames: Sequence[Frame], target: Frame) -> list[Fact]:
    """Words about holes that the sheets enclose, and about groups that do not touch."""
    import shapely

    across, along = target.cell
    slack = _SLACK * max(across, along)
    ground = shapely.union_all([outline(frame, target).buffer(slack, join_style="mitre") for frame in frames])
    parts = list(shapely.get_parts(ground))
    holes = [shapely.Polygon(ring) for part in parts for ring in part.interiors]
    said: list[Fact] = []
    if holes:
        cells = sum(hole.area for hole in holes) / (across * along)
        place = max(holes, key=lambda hole: float(hole.area)).representative_point()
        said.append(fact("holes", holes=len(holes), cells=round(cells), x=place.x, y=place.y))
    if len(parts) > 1:
        said.append(fact("sheets_apart", groups=len(parts)))
    return said


def collars(layers: Sequence[Layer]) -> list[Fact]:
    """A word about photos with dark corners that nobody says are invalid."""
    looked_at = layers[:: max(1, -(-len(layers) // _LOOKED_AT))]
    dark = [layer for layer in looked_at if is_photo(layer.raster.bands) and _dark_corners(layer) > 1]
    if not dark:
        return []
    return [fact("dark_collar", layer=dark[0].path.stem, others=len(dark) - 1)]


def _dark_corners(layer: Layer) -> int:
    frame = layer.raster.frame
    size = Pane(0, 0, min(_CORNER, frame.rows), min(_CORNER, frame.columns))
    down, across = frame.rows - size.rows, frame.columns - size.columns
    found = 0
    for row, column in ((0, 0), (0, across), (down, 0), (down, across)):
        block = layer.raster.cells(size.moved(row, column))
        colours = block.cells[:3]
        dark = (colours <= _NEAR_BLACK).all(axis=0) & block.anywhere
        found += bool(dark[-1 if row else 0, -1 if column else 0] and dark.mean() >= _DARK)
    return found


def unlike(layers: Sequence[Layer]) -> list[Fact]:
    """Words about sheets whose CRS, cell size or type is not that of most."""
    if len(layers) < 3:
        return []
    said = []
    for what, values in (
        ("CRS", [label(layer.raster.frame.crs) for layer in layers]),
        ("cell", [show_cell(layer.raster.frame) for layer in layers]),
        ("type", [shared_type(layer.raster.bands).name for layer in layers]),
    ):
        counts = Counter(values)
        usual, often = counts.most_common(1)[0]
        odd = [n for n, value in enumerate(values) if value != usual]
        if odd and often > len(layers) / 2:
            layer, value = layers[odd[0]].path.stem, values[odd[0]]
            more = {"others": len(odd) - 1, "value": value, "usual": usual}
            said.append(fact("unlike", what=what, layer=layer, **more))
    return said


def ordered(layers: list[Layer], order: str) -> list[Layer]:
    """`layers` by a field of a sheet index, `[-]FIELD@INDEX`; a minus puts the largest first.

    Raises UsageError, or InputError where the index lacks the field or a sheet.
    """

    field, at, index = order.lstrip("-").partition("@")
    if not at or not field or not index:
        raise UsageError(f"--order {order}", "FIELD@INDEX is needed", "write --order date@sheets.geojson")
    rows = list(read_named(index).rows())
    fields = {name for row in rows for name in row}
    if field not in fields or "path" not in fields:
        missing = "path" if field in fields else field
        raise InputError(
            f"{index} has no field {missing!r}",
            "sheets are found by their path and ordered by the field",
            nearest_name(missing, fields),
        )
    values = {Path(str(row["path"])).name: row.get(field) for row in rows if row.get("path")}
    missing_sheet = next((layer for layer in layers if values.get(layer.path.name) is None), None)
    if missing_sheet is not None:
        raise InputError(
            f"{index} says nothing of {missing_sheet.path}",
            f"its place in the order of {field} is unknown",
            "add it to the index, or leave it out",
        )
    try:
        return sorted(layers, key=lambda layer: values[layer.path.name], reverse=order.startswith("-"))  # type: ignore[arg-type,return-value]
    except TypeError as exc:
        raise InputError(
            f"{index} mixes numbers and words in {field!r}", "they have no order", "mend the index"
        ) from exc
