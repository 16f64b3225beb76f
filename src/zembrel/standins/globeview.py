"""A view from above of what a KMZ holds: its pictures, from coarse to fine, and its features."""

from __future__ import annotations

import io
import math
import posixpath
import zipfile
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from defusedxml import ElementTree
from PIL import Image, ImageDraw

from zembrel.standins.verdict import SCREEN, RejectedError, Verdict, need

_GROUND, _SIDES = (34, 52, 78), ("west", "south", "east", "north")
_LARGEST = 4096  # cells along a side of a picture
_MOST = 100_000  # documents
Box = tuple[float, float, float, float]


class _Overlay(NamedTuple):
    order: int
    box: Box
    image: str
    opacity: float


class _Shape(NamedTuple):
    places: list[tuple[float, float]]
    colour: str


def globe_verdict(path: Path) -> Verdict:
    """What a globe says of the KMZ at `path`."""
    try:
        with zipfile.ZipFile(path) as held:
            return _looked_at(held)
    except zipfile.BadZipFile as exc:
        raise RejectedError(f"it is no zip: {exc}") from exc


def _looked_at(held: zipfile.ZipFile) -> Verdict:
    names = set(held.namelist())
    first = next((name for name in held.namelist() if name.lower().endswith(".kml")), None)
    need(first is not None, "there is no KML in it")
    overlays, shapes, waiting, seen = list[_Overlay](), list[_Shape](), [str(first)], set[str]()
    while waiting:
        name = waiting.pop()
        need(name in names, f"it links to {name}, which is not there")
        need(name not in seen and len(seen) < _MOST, f"{name} is linked to more than once")
        seen.add(name)
        try:
            root = ElementTree.fromstring(held.read(name))
        except ElementTree.ParseError as exc:
            raise RejectedError(f"{name} is no XML: {exc}") from exc
        folder = posixpath.dirname(name)
        styles = {node.get("id"): _found(node, "LineStyle/color") for node in _all(root, "Style")}
        for node in _all(root, "GroundOverlay"):
            overlays.append(_overlay(held, folder, node))
        for node in _all(root, "Placemark"):
            shapes += _shapes(node, styles)
        for node in _all(root, "NetworkLink"):
            waiting.append(posixpath.normpath(posixpath.join(folder, _found(node, "Link/href") or "")))
    need(bool(overlays or shapes), "nothing is shown")
    boxes = [overlay.box for overlay in overlays]
    boxes += [(x, y, x, y) for shape in shapes for x, y in shape.places]
    whole = (
        min(b[0] for b in boxes),
        min(b[1] for b in boxes),
        max(b[2] for b in boxes),
        max(b[3] for b in boxes),
    )
    facts = {"documents": len(seen), "pictures": len(overlays), "features": len(shapes)}
    return Verdict((), facts, _drawn(held, overlays, shapes, whole))


def _overlay(held: zipfile.ZipFile, folder: str, node: Any) -> _Overlay:
    try:
        sides = [
            float(_found(node, f"LatLonBox/{side}") or "x") for side in ("west", "south", "east", "north")
        ]
    except ValueError:
        need(False, "a picture has no box")
        raise
    west, south, east, north = sides
    east += 360 if east < west else 0
    need(-90 <= south < north <= 90 and west < east, f"a picture lies at {sides}")
    image = posixpath.normpath(posixpath.join(folder, _found(node, "Icon/href") or ""))
    need(image in set(held.namelist()), f"the picture {image} is not there")
    with Image.open(io.BytesIO(held.read(image))) as picture:
        need(max(picture.size) <= _LARGEST, f"{image} has {picture.size} cells, {_LARGEST} at most are shown")
    colour = _found(node, "color") or "ffffffff"
    order = int(_found(node, "drawOrder") or 0)
    return _Overlay(order, (west, south, east, north), image, int(colour[:2], 16) / 255)


def _shapes(node: Any, styles: dict[Any, str | None]) -> list[_Shape]:
    style = styles.get((_found(node, "styleUrl") or "")[1:]) or "ffffffff"
    colour = f"#{style[6:8]}{style[4:6]}{style[2:4]}"
    made = []
    for inner in _all(node, "coordinates"):
        words = [word.split(",") for word in (inner.text or "").split()]
        made.append(_Shape([(float(word[0]), float(word[1])) for word in words], colour))
    need(bool(made), "a feature has no place")
    return made


def _drawn(held: zipfile.ZipFile, overlays: list[_Overlay], shapes: list[_Shape], whole: Box) -> Any:
    """North up, all of it on the screen."""
    west, south, east, north = whole
    narrow = math.cos(math.radians((south + north) / 2))
    scale = 0.95 * min(SCREEN[0] / max((east - west) * narrow, 1e-6), SCREEN[1] / max(north - south, 1e-6))
    middle = (west + east) / 2, (south + north) / 2

    def at(x: float, y: float) -> tuple[float, float]:
        return SCREEN[0] / 2 + (x - middle[0]) * narrow * scale, SCREEN[1] / 2 - (y - middle[1]) * scale

    screen = Image.new("RGBA", SCREEN, (*_GROUND, 255))
    for overlay in sorted(overlays):
        (left, top), (right, bottom) = at(overlay.box[0], overlay.box[3]), at(overlay.box[2], overlay.box[1])
        size = max(1, round(right) - round(left)), max(1, round(bottom) - round(top))
        with Image.open(io.BytesIO(held.read(overlay.image))) as picture:
            piece = picture.convert("RGBA").resize(size)
        if overlay.opacity < 1:
            piece.putalpha(piece.getchannel("A").point(lambda v, share=overlay.opacity: round(v * share)))
        layer = Image.new("RGBA", SCREEN, (0, 0, 0, 0))
        layer.paste(piece, (round(left), round(top)))
        screen.alpha_composite(layer)
    pen = ImageDraw.Draw(screen)
    for shape in shapes:
        points = [at(x, y) for x, y in shape.places]
        if len(points) > 1:
            pen.line(points, fill=shape.colour, width=2)
        else:
            ((x, y),) = points
            pen.ellipse((x - 4, y - 4, x + 4, y + 4), fill=shape.colour, outline="black")
    return np.asarray(screen.convert("RGB"))


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2]


def _all(root: Any, name: str) -> list[Any]:
    return [node for node in root.iter() if _local(node) == name]


def _found(node: Any, way: str) -> str | None:
    """The text at a way of elements below a node."""
    for name in way.split("/"):
        node = next((inner for inner in node if _local(inner) == name), None)
        if node is None:
            return None
    return str(node.text or "").strip()
