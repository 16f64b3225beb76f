"""Tiles as files of a folder, zoom/column/row, with what they are in a file beside them."""

from __future__ import annotations

import json
import re
from pathlib import Path

TILE_INDEX = "tiles.json"
TILE_NAME = re.compile(r"(\d+)/(\d+)/(\d+)\.(png|jpg|webp)")


def stands_as_tiles(path: Path) -> bool:
    """Whether a folder is a pack of tiles and nothing else is in it."""
    try:
        told = json.loads((path / TILE_INDEX).read_text("utf-8"))
    except (OSError, ValueError):
        return False
    if not isinstance(told, dict) or "tile_matrix_set" not in told:
        return False
    files = (found.relative_to(path).as_posix() for found in path.rglob("*") if not found.is_dir())
    return all(name == TILE_INDEX or TILE_NAME.fullmatch(name) for name in files)
