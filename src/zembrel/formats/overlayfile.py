"""Places of pictures in KML: ground overlays, as boxes (turned ones too) and as four corners.

Source: OGC 12-007r2, "OGC KML 2.3", kml:GroundOverlay, kml:LatLonBox, kml:LatLonQuad. A turned box is turned
about its middle, on the ground: degrees of longitude count as much as they measure there.
"""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.reading import readings

_WGS_84 = 4326
_MOST = 16_000_000  # bytes of a KML file
_BENT = 0.5  # cells by which four corners may miss a parallelogram


def overlay_frame(path: Path, image: Path, columns: int, rows: int) -> Frame | None:
    """The frame that the KML at `path` gives to `image`; None if it does not speak of it.

    Raises InputError for an overlay that makes no place.
    """
    overlay = _overlay(path, image)
    if overlay is None:
        return None
    quad = _found(overlay, "LatLonQuad")
    if quad is not None:
        affine = _of_corners(path, str(_text(quad, "coordinates")), columns, rows)
    else:
        box = _found(overlay, "LatLonBox")
        if box is None:
            return None
        affine = _of_box(path, box, columns, rows)
    return Frame(by_code(_WGS_84), affine, columns, rows)


def _overlay(path: Path, image: Path) -> Any:
    """The overlay whose icon is `image`, or the only one."""
    from defusedxml import ElementTree
    from defusedxml.common import DefusedXmlException

    try:
        if path.stat().st_size > _MOST:
            return None
        root = ElementTree.fromstring(readings.note(path).read_bytes())
    except (OSError, ElementTree.ParseError, DefusedXmlException, ValueError) as exc:
        raise InputError(f"{path} is no sound KML", f"{exc}", "correct it, or move it away") from exc
    overlays = [node for node in root.iter() if _local(node) == "GroundOverlay"]
    for node in overlays:
        href = _text(_found(node, "Icon"), "href")
        if href and href.replace("\\", "/").rpartition("/")[2].lower() == image.name.lower():
            return node
    return overlays[0] if len(overlays) == 1 and not _text(_found(overlays[0], "Icon"), "href") else None


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2]


def _found(node: Any, name: str) -> Any:
    return next((inner for inner in node.iter() if _local(inner) == name), None)


def _text(node: Any, name: str) -> str | None:
    inner = None if node is None else _found(node, name)
    return None if inner is None or inner.text is None else inner.text.strip()


def _of_box(path: Path, box: Any, columns: int, rows: int) -> Affine:
    try:
        north, south, east, west = (
            float(_text(box, key) or "") for key in ("north", "south", "east", "west")
        )
        turn = math.radians(float(_text(box, "rotation") or 0.0))
    except ValueError as exc:
        raise InputError(f"{path} has an overlay without a box", f"{exc}", "correct it") from exc
    east += 360.0 if east < west else 0.0
    if not (-90 <= south < north <= 90 and west < east <= west + 360):
        raise InputError(
            f"{path} has an overlay of no area", f"W {west} S {south} E {east} N {north}", "correct it"
        )
    x, y = (west + east) / 2, (south + north) / 2
    step_x, step_y = (east - west) / columns, (north - south) / rows
    if not turn:
        return Affine(west, north, step_x, -step_y)
    narrow = math.cos(math.radians(y))
    cos, sin = math.cos(turn), math.sin(turn)
    x_col, y_col = step_x * cos, step_x * narrow * sin
    x_row, y_row = step_y * sin / narrow, -step_y * cos
    x0, y0 = x - columns / 2 * x_col - rows / 2 * x_row, y - columns / 2 * y_col - rows / 2 * y_row
    return Affine(x0, y0, x_col, y_row, x_row, y_col)


def _of_corners(path: Path, text: str, columns: int, rows: int) -> Affine:
    """From the lower left, lower right, upper right and upper left corner."""
    try:
        corners = np.array([[float(v) for v in word.split(",")[:2]] for word in text.split()])
        if corners.shape != (4, 2):
            raise ValueError(f"{len(corners)} corners")
    except ValueError as exc:
        raise InputError(f"{path} has an overlay without four corners", f"{exc}", "correct it") from exc
    lower_left, lower_right, upper_right, upper_left = corners
    across, down = (upper_right - upper_left) / columns, (lower_left - upper_left) / rows
    affine = Affine(
        float(upper_left[0]),
        float(upper_left[1]),
        float(across[0]),
        float(down[1]),
        float(down[0]),
        float(across[1]),
    )
    column, row = affine.position(float(lower_right[0]), float(lower_right[1]))
    if math.hypot(column - columns, row - rows) > _BENT:
        raise InputError(
            f"{path} gives corners that are no parallelogram",
            f"the fourth misses by {math.hypot(column - columns, row - rows):.1f} cells",
            "place the picture with pin",
        )
    return affine
