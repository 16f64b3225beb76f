"""A screen of tiles: web Mercator, north up, around a place."""

from __future__ import annotations

import io
import math
from collections.abc import Callable, Collection
from typing import Any

import numpy as np
from PIL import Image

from zembrel.standins.verdict import SCREEN, need

_SEA = (214, 219, 224)  # where no tile is
Tiles = Callable[[int, int, int], bytes | None]


def shown(tiles: Tiles, lon: float, lat: float, zoom: int, side: int) -> tuple[Any, int]:
    """The screen, and how many tiles are on it. Raises RejectedError for one that is no picture of `side`."""
    width, height = SCREEN
    world = side * 2**zoom
    y = math.log(math.tan(math.pi / 4 + math.radians(lat) / 2))
    left = (lon + 180) / 360 * world - width / 2
    top = (1 - y / math.pi) / 2 * world - height / 2
    screen = Image.new("RGB", SCREEN, _SEA)
    count = 0
    for row in range(max(0, int(top // side)), min(2**zoom, int((top + height) // side) + 1)):
        for column in range(int(left // side), int((left + width) // side) + 1):
            data = tiles(zoom, column % 2**zoom, row)
            if data is not None:
                tile = decoded(data, side, f"{zoom}/{column}/{row}")
                screen.paste(tile, (round(column * side - left), round(row * side - top)), tile)
                count += 1
    return np.asarray(screen), count


_MARKS = {b"\x89PNG": "png", b"\xff\xd8\xff": "jpg", b"RIFF": "webp"}  # with which pictures begin


def sort_of(data: bytes) -> str:
    """The format of a picture by its first bytes, `unknown` for any other."""
    return next((name for mark, name in _MARKS.items() if data.startswith(mark)), "unknown")


def check_sort(promised: str, found: Collection[str]) -> None:
    """Raises RejectedError for pictures of other formats than is promised of all of them."""
    others = sorted(set(found) - {promised})
    need(not others, f"tiles are promised to be {promised}, and some are {', '.join(others)}")


def check_levels(tiles: Collection[tuple[int, int, int]]) -> None:
    """Raises RejectedError for zoom levels with holes: nothing there, and something at finer levels."""
    there = set(tiles)
    lowest, highest = min(zoom for zoom, _, _ in there), max(zoom for zoom, _, _ in there)
    missing = sorted(set(range(lowest, highest + 1)) - {zoom for zoom, _, _ in there})
    need(not missing, f"there is no tile of zoom {', '.join(map(str, missing))}")
    for zoom, column, row in there:
        above = zoom - 1, column >> 1, row >> 1
        need(zoom == lowest or above in there, f"zoom {zoom - 1} has a hole at {above[1]}/{above[2]}")


def decoded(data: bytes, side: int, name: str) -> Any:
    """A tile as red, green, blue and opacity. Raises RejectedError for anything else."""
    try:
        with Image.open(io.BytesIO(data)) as picture:
            need(picture.format in ("PNG", "JPEG", "WEBP"), f"tile {name} is {picture.format}")
            need(picture.size == (side, side), f"tile {name} has {picture.size}, not {side} x {side}")
            return picture.convert("RGBA")
    except (OSError, SyntaxError) as exc:
        need(False, f"tile {name} is no picture: {exc}")
        raise
