"""A reader of its own for globes: follows every link, and looks at every picture."""

from __future__ import annotations

import io
import posixpath
import zipfile
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.errors import ResourceError


class GlobeContent(NamedTuple):
    """Pictures on the ground and features that are reached from the first document."""

    overlays: int = 0
    placemarks: int = 0


def read_globe(path: Path) -> GlobeContent:
    """What a globe that opens `path` finds. Raises ResourceError for a link that leads nowhere."""
    with zipfile.ZipFile(path) as held:
        first = next((name for name in held.namelist() if name.endswith(".kml")), None)
        if first is None:
            raise _broken(path, "there is no document")
        overlays, placemarks, waiting = 0, 0, [first]
        while waiting:
            name = waiting.pop()
            root = _parsed(path, held, name)
            folder = posixpath.dirname(name)
            for node in root.iter():
                kind = _local(node)
                if kind == "GroundOverlay":
                    _check_overlay(path, held, folder, node)
                    overlays += 1
                elif kind == "ScreenOverlay":
                    _check_picture(path, held, folder, node)
                elif kind == "Placemark":
                    placemarks += 1
                elif kind == "NetworkLink":
                    waiting.append(posixpath.normpath(posixpath.join(folder, _text(node, "href"))))
        return GlobeContent(overlays, placemarks)


def _parsed(path: Path, held: zipfile.ZipFile, name: str) -> Any:
    from defusedxml import ElementTree

    try:
        return ElementTree.fromstring(held.read(name))
    except (KeyError, ElementTree.ParseError) as exc:
        raise _broken(path, f"{name}: {exc}") from exc


def _check_overlay(path: Path, held: zipfile.ZipFile, folder: str, node: Any) -> None:
    _check_picture(path, held, folder, node)
    box = next(inner for inner in node.iter() if _local(inner) == "LatLonBox")
    north, south, east, west = (float(_text(box, side)) for side in ("north", "south", "east", "west"))
    if not (-90 <= south < north <= 90 and -180 <= west <= 180 and -180 <= east <= 180 and west != east):
        raise _broken(path, f"a box of W {west} S {south} E {east} N {north}")


def _check_picture(path: Path, held: zipfile.ZipFile, folder: str, node: Any) -> None:
    from PIL import Image

    name = posixpath.normpath(posixpath.join(folder, _text(node, "href")))
    try:
        Image.open(io.BytesIO(held.read(name))).verify()
    except (KeyError, OSError, SyntaxError) as exc:
        raise _broken(path, f"{name}: {exc}") from exc


def _text(node: Any, name: str) -> str:
    return next(str(inner.text) for inner in node.iter() if _local(inner) == name)


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2]


def _broken(path: Path, why: str) -> ResourceError:
    return ResourceError(f"{path} is not what was written", why, "write it again, on another disk")
