"""A phone's map app: MBTiles 1.3, PMTiles 3, and KMZ.

Sources: MBTiles specification 1.3; PMTiles specification 3; OGC 07-147r2 (KML 2.2).
"""

from __future__ import annotations

import gzip
import io
import json
import sqlite3
from pathlib import Path
from typing import NamedTuple

from PIL import Image

from zembrel.sqlitefile import opened_for_reading
from zembrel.standins.globeview import globe_verdict
from zembrel.standins.tilescreen import Tiles, check_levels, check_sort, decoded, shown, sort_of
from zembrel.standins.verdict import RejectedError, Verdict, need

_FORMATS = ("png", "jpg", "webp")
_KINDS = {2: "png", 3: "jpg", 4: "webp"}  # of the tiles of a PMTiles
_LOOKED_AT = 200  # tiles that are decoded
_WIDE = 1600  # pixels of a map that is shown as a whole


def judge(path: Path) -> Verdict:
    """What the app says of the pack at `path`."""
    openers = {".mbtiles": _mbtiles, ".pmtiles": _pmtiles, ".kmz": globe_verdict}
    opener = openers.get(path.suffix.lower())
    need(opener is not None, f"it opens {', '.join(openers)}, not {path.suffix or 'folders'}")
    assert opener is not None
    return opener(path)


def _mbtiles(path: Path) -> Verdict:
    try:
        file = opened_for_reading(path)
        told = dict(file.execute("SELECT name, value FROM metadata").fetchall())
        columns = [row[1] for row in file.execute("PRAGMA table_info(tiles)")]
        levels = file.execute("SELECT zoom_level, count(*) FROM tiles GROUP BY 1 ORDER BY 1").fetchall()
    except sqlite3.Error as exc:
        raise RejectedError(f"it is no MBTiles database: {exc}") from exc
    need(
        {"zoom_level", "tile_column", "tile_row", "tile_data"} <= set(columns),
        "the table of tiles lacks a column",
    )
    for name in ("name", "format"):
        need(bool(told.get(name)), f"the metadata lack {name!r}")
    need(told["format"] in _FORMATS, f"tiles of format {told['format']!r} are not shown")
    zooms = [level for level, _ in levels]
    need(bool(zooms), "there is no tile")
    for name, due in (("minzoom", zooms[0]), ("maxzoom", zooms[-1])):
        need(told.get(name, str(due)) == str(due), f"the metadata say {name} {told.get(name)}, tiles {due}")
    places, sorts = list[tuple[int, int, int]](), set[str]()
    query = "SELECT zoom_level, tile_column, tile_row, substr(tile_data, 1, 8) FROM tiles"
    for level, column, row, head in file.execute(query):
        need(0 <= column < 2**level and 0 <= row < 2**level, f"tile {level}/{column}/{row} is off the world")
        places.append((level, column, 2**level - 1 - row))
        sorts.add(sort_of(head))
    check_sort(told["format"], sorts)
    check_levels(places)

    def tile(zoom: int, column: int, row: int) -> bytes | None:
        where = (zoom, column, 2**zoom - 1 - row)
        found = file.execute(
            "SELECT tile_data FROM tiles WHERE zoom_level = ? AND tile_column = ? AND tile_row = ?", where
        ).fetchone()
        return None if found is None else bytes(found[0])

    some = file.execute(f"SELECT tile_data FROM tiles LIMIT {_LOOKED_AT}").fetchall()
    bounds, centre = (
        [float(part) for part in told.get(key, "").split(",") if part] for key in ("bounds", "center")
    )
    view = _view(bounds, centre[:2])
    return _verdict(
        told["name"], zooms, sum(count for _, count in levels), view, tile, [row[0] for row in some]
    )


def _pmtiles(path: Path) -> Verdict:
    data = path.read_bytes()
    need(len(data) > 127 and data[:7] == b"PMTiles" and data[7] == 3, "it is no PMTiles of version 3")
    numbers = [int.from_bytes(data[8 + 8 * n : 16 + 8 * n], "little") for n in range(11)]
    root, root_size, facts, facts_size, leaves, _, tiles, tiles_size, addressed, _, _ = numbers
    packed, plain, kind, low, high = data[97:102]
    need(packed == 2 and plain in (0, 1), f"compressions {packed} and {plain} are not read")
    need(tiles + tiles_size <= len(data), "it is cut off")
    told = json.loads(gzip.decompress(data[facts : facts + facts_size]))
    found: dict[int, tuple[int, int]] = {}
    waiting = [(root, root_size)]
    while waiting:
        start, size = waiting.pop()
        for number, run, length, offset in _directory(gzip.decompress(data[start : start + size])):
            if run == 0:
                waiting.append((leaves + offset, length))
            for step in range(run):
                found[number + step] = (tiles + offset, length)
    need(len(found) == addressed, f"{len(found)} tiles are found, {addressed} are announced")
    numbers = [*range(102, 118, 4), 119, 123]
    degrees = [int.from_bytes(data[at : at + 4], "little", signed=True) / 1e7 for at in numbers]

    def tile(zoom: int, column: int, row: int) -> bytes | None:
        place = found.get(_number(zoom, column, row))
        return None if place is None else data[place[0] : sum(place)]

    some = [data[at : at + size] for at, size in list(found.values())[:_LOOKED_AT]]
    if kind in _KINDS:
        check_sort(_KINDS[kind], {sort_of(data[at : at + 8]) for at, _ in found.values()})
    zooms = list(range(low, high + 1))
    need(kind in (0, 2, 3, 4), f"tiles of type {kind} are not shown")
    view = _view(degrees[:4], degrees[4:])
    return _verdict(told.get("name", path.stem), zooms, len(found), view, tile, some)


def _directory(data: bytes) -> list[tuple[int, int, int, int]]:
    """First number, run, length and offset of each entry: four columns of numbers of seven bits a byte."""
    numbers, value, shift = [], 0, 0
    for byte in data:
        value |= (byte & 127) << shift
        shift += 7
        if byte < 128:
            numbers.append(value)
            value = shift = 0
    count = numbers[0]
    need(len(numbers) == 1 + 4 * count, "a directory is not whole")
    entries, number, last = [], 0, 0
    for n in range(count):
        step, run, length, offset = (numbers[1 + n + part * count] for part in range(4))
        number += step
        start = last if offset == 0 else offset - 1
        entries.append((number, run, length, start))
        last = start + length
    return entries


def _number(zoom: int, column: int, row: int) -> int:
    """The place of a tile: all of lower zooms, then along the Hilbert curve of its own."""
    number, side = int((4**zoom - 1) // 3), 1 << zoom
    half = side >> 1
    while half:
        right, down = int(bool(column & half)), int(bool(row & half))
        number += half * half * ((3 * right) ^ down)
        if not down:
            if right:
                column, row = side - 1 - column, side - 1 - row
            column, row = row, column
        half >>= 1
    return number


class _View(NamedTuple):
    """Where the map is shown first, and how many degrees wide it is."""

    lon: float
    lat: float
    width: float


def _view(bounds: list[float], centre: list[float]) -> _View:
    """The centre that the pack says, else the middle of its bounds."""
    sound = len(bounds) == 4 and -180 <= bounds[0] < bounds[2] <= 180 and bounds[1] < bounds[3]
    need(sound, f"its bounds are {bounds}")
    west, south, east, north = bounds
    lon, lat = centre if len(centre) == 2 and any(centre) else ((west + east) / 2, (south + north) / 2)
    need(-180 <= lon <= 180 and south <= lat <= north, f"its centre is {lon:g},{lat:g}")
    return _View(lon, lat, east - west)


def _verdict(name: str, zooms: list[int], count: int, view: _View, tile: Tiles, some: list[bytes]) -> Verdict:
    """The map in its middle, at a zoom where it fills the screen."""
    side = Image.open(io.BytesIO(some[0])).size[0]
    need(side in (256, 512), f"tiles have {side} cells a side")
    for number, data in enumerate(some):
        decoded(data, side, f"number {number}")
    fitting = [zoom for zoom in zooms if view.width / 360 * side * 2**zoom <= _WIDE] or zooms[:1]
    screen, there = shown(tile, view.lon, view.lat, fitting[-1], side)
    need(there > 0, f"there is no tile in its middle at zoom {fitting[-1]}")
    facts = {
        "name": name,
        "tiles": count,
        "zooms": f"{zooms[0]} to {zooms[-1]}",
        "shown at": fitting[-1],
    }
    return Verdict((), facts, screen)
