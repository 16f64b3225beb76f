"""A remote controller of an aircraft: base maps as zoom/column/row pictures on a card, or in a zip."""

from __future__ import annotations

import json
import math
import re
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zembrel.standins.tilescreen import check_levels, check_sort, decoded, shown, sort_of
from zembrel.standins.verdict import RejectedError, Verdict, need

_TILE = re.compile(r"(\d{1,2})/(\d+)/(\d+)\.(png|jpg)")
_SIDE, _HIGHEST, _LOOKED_AT = 256, 20, 200
Address = tuple[int, int, int]


def judge(path: Path) -> Verdict:
    """What the controller says of the pack at `path`."""
    if path.is_dir():
        files = {str(file.relative_to(path)): file for file in path.rglob("*") if file.is_file()}
        return _verdict({name: file.read_bytes for name, file in files.items()})
    try:
        with zipfile.ZipFile(path) as held:
            entries = held.infolist()
            need(all(entry.compress_type == 0 for entry in entries), "it reads stored entries alone")
            return _verdict({entry.filename: lambda entry=entry: held.read(entry) for entry in entries})
    except (zipfile.BadZipFile, OSError) as exc:
        raise RejectedError(f"it is neither a folder nor a zip: {exc}") from exc


def _verdict(files: Mapping[str, Any]) -> Verdict:
    tiles: dict[Address, str] = {}
    for name in files:
        found = _TILE.fullmatch(name)
        need(found is not None or name == "tiles.json", f"{name} is no tile of png or jpg")
        if found is not None:
            zoom, column, row = (int(part) for part in found.groups()[:3])
            need(zoom <= _HIGHEST and max(column, row) < 2**zoom, f"{name} is off the world, or too fine")
            tiles[zoom, column, row] = name
    need(bool(tiles), "there is no tile")
    check_levels(tiles)
    for name in tiles.values():
        check_sort(name.rpartition(".")[2], [sort_of(files[name]()[:8])])
    told = json.loads(files["tiles.json"]()) if "tiles.json" in files else {}
    upward = told.get("scheme") == "tms"
    for name in list(tiles.values())[:: max(1, len(tiles) // _LOOKED_AT)]:
        decoded(files[name](), _SIDE, name)

    def tile(zoom: int, column: int, row: int) -> bytes | None:
        name = tiles.get((zoom, column, 2**zoom - 1 - row if upward else row))
        return None if name is None else bytes(files[name]())

    zoom = sorted(level for level, _, _ in tiles)[len(tiles) // 2]
    west, south, east, north = told.get("bounds") or _bounds(tiles, zoom, upward)
    lon, lat = (told.get("center") or ((west + east) / 2, (south + north) / 2))[:2]
    screen, there = shown(tile, lon, lat, zoom, _SIDE)
    need(there > 0, f"there is no tile in the middle at zoom {zoom}: rows may count from the other side")
    levels = sorted({level for level, _, _ in tiles})
    return Verdict(
        (), {"tiles": len(tiles), "zooms": f"{levels[0]} to {levels[-1]}", "shown at": zoom}, screen
    )


def _bounds(tiles: Mapping[Address, str], zoom: int, upward: bool) -> tuple[float, float, float, float]:
    """About where the tiles of a zoom lie, in degrees."""
    columns = [column for level, column, _ in tiles if level == zoom]
    rows = [2**zoom - 1 - row if upward else row for level, _, row in tiles if level == zoom]

    def lat(row: float) -> float:
        return math.degrees(math.atan(math.sinh(math.pi * (1 - 2 * row / 2**zoom))))

    west, east = (360 * at / 2**zoom - 180 for at in (min(columns), max(columns) + 1))
    return west, lat(max(rows) + 1), east, lat(min(rows))
