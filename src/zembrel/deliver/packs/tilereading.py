"""Strict readers of tile packs, from the published rules and not from what writes them."""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PIL import Image

from zembrel.errors import ResourceError
from zembrel.formats.tilefolder import TILE_NAME
from zembrel.sqlitefile import opened_for_reading

_LOOKED_AT = 64  # pictures that are decoded
_MOST_BYTES = 64_000_000  # of a tile, and of a directory of tiles
_MOST_NUMBER = 4**32  # along the curve: of no zoom that anybody uses
_UNZIP = 31  # window bits of zlib for gzip


class TileFound(NamedTuple):
    """A tile as its pack addresses it."""

    zoom: int
    column: int
    row: int
    read: Callable[[], bytes]


def of_folder(path: Path) -> Iterator[TileFound]:
    """Tiles by their names."""
    for file in sorted(path.rglob("*.*")):
        named = TILE_NAME.fullmatch(file.relative_to(path).as_posix())
        if named:
            yield TileFound(int(named[1]), int(named[2]), int(named[3]), file.read_bytes)


def of_zip(path: Path) -> Iterator[TileFound]:
    """The same in a zip."""
    with zipfile.ZipFile(path) as held:
        for name in held.namelist():
            named = TILE_NAME.fullmatch(name)
            if named:
                zoom, column, row = map(int, named.groups()[:3])
                if held.getinfo(name).file_size > _MOST_BYTES:
                    raise ValueError(f"{name} has {held.getinfo(name).file_size:,} bytes")
                yield TileFound(zoom, column, row, lambda name=name: held.read(name))  # type: ignore[misc]


def of_mbtiles(path: Path) -> Iterator[TileFound]:
    """Rows of the view or table `tiles`."""
    yield from _rows(path, "tiles")


def of_geopackage(path: Path) -> Iterator[TileFound]:
    """Rows of each table of tiles that the contents name."""
    with closing(opened_for_reading(path)) as file:
        tables = file.execute("SELECT table_name FROM gpkg_contents WHERE data_type = 'tiles'").fetchall()
    for (table,) in tables:
        yield from _rows(path, str(table))


def _rows(path: Path, table: str) -> Iterator[TileFound]:
    table = '"' + table.replace('"', '""') + '"'
    with closing(opened_for_reading(path)) as file:
        pick = f"SELECT tile_data FROM {table} WHERE zoom_level = ? AND tile_column = ? AND tile_row = ?"
        for place in file.execute(f"SELECT zoom_level, tile_column, tile_row FROM {table}"):
            zoom, column, row = place
            yield TileFound(zoom, column, row, lambda at=place: bytes(file.execute(pick, at).fetchone()[0]))  # type: ignore[misc]


def of_pmtiles(path: Path) -> Iterator[TileFound]:
    """Tiles of all directories."""
    for entry in _entries(path):
        for step in range(entry.run):
            yield TileFound(*_from_curve(entry.number + step), entry.read)


def different_of_pmtiles(path: Path) -> Iterator[TileFound]:
    """The first and the last of the tiles that share a picture: runs of others' files may be very long."""
    for entry in _entries(path):
        for step in dict.fromkeys((0, entry.run - 1)):
            yield TileFound(*_from_curve(entry.number + step), entry.read)


class _Entry(NamedTuple):
    """Tiles that share a picture: the number of the first along the curve, and how many there are."""

    number: int
    run: int
    read: Callable[[], bytes]


def _entries(path: Path) -> Iterator[_Entry]:
    """The entries of all directories. Raises ValueError for what is no PMTiles of version 3."""
    with path.open("rb") as file:
        head = file.read(127)
        if head[:7] != b"PMTiles" or head[7] != 3:
            raise ValueError(f"it is no PMTiles of version 3: it begins with {head[:8]!r}")
        root, root_size, _, _, leaves, _, data, _ = struct.unpack("<8Q", head[8:72])

        def cut(start: int, size: int) -> bytes:
            if size > _MOST_BYTES:
                raise ValueError(f"a part of it would have {size:,} bytes")
            file.seek(start)
            return file.read(size)

        waiting, seen = [(root, root_size)], set[tuple[int, int]]()
        while waiting:
            part = waiting.pop(0)
            if part in seen:
                raise ValueError("a directory is named twice")
            seen.add(part)
            text = zlib.decompressobj(_UNZIP).decompress(cut(*part), _MOST_BYTES)
            for number, run, length, offset in _directory(text):
                if run == 0:
                    waiting.append((leaves + offset, length))
                else:
                    yield _Entry(number, run, partial(cut, data + offset, length))


def _directory(text: bytes) -> Iterator[tuple[int, int, int, int]]:
    numbers, value, shift = [], 0, 0
    for byte in text:
        value |= (byte & 127) << shift
        shift += 7
        if byte < 128:
            numbers.append(value)
            value = shift = 0
    count = numbers[0]
    steps, runs, lengths, offsets = (numbers[1 + n * count : 1 + (n + 1) * count] for n in range(4))
    tile = end = 0
    for step, run, length, offset in zip(steps, runs, lengths, offsets, strict=True):
        tile += step
        start = offset - 1 if offset else end
        end = start + length
        yield tile, run, length, start


def _from_curve(number: int) -> tuple[int, int, int]:
    """Zoom, column and row of a number along the curve, built up from its smallest square."""
    if number >= _MOST_NUMBER:
        raise ValueError(f"a tile has the number {number}")
    zoom = 0
    while number >= 4**zoom:
        number -= 4**zoom
        zoom += 1
    x = y = 0
    for level in range(zoom):
        side = 1 << level
        right = number >> 1 & 1
        low = (number ^ right) & 1
        if not low:
            if right:
                x, y = side - 1 - x, side - 1 - y
            x, y = y, x
        x, y = x + side * right, y + side * low
        number >>= 2
    return zoom, x, y


def checked(tiles: Iterator[TileFound], rows: int, cells: int, zooms: Mapping[int, int], path: Path) -> int:
    """How many tiles there are, each once, as many of each zoom as were made, of the right size.

    rows: at zoom 0 if rows count from the bottom, else 0. Raises ResourceError for anything else.
    """
    found: Counter[int] = Counter()
    seen: set[tuple[int, int, int]] = set()
    total = sum(zooms.values())
    for number, tile in enumerate(tiles):
        found[tile.zoom] += 1
        seen.add(tile[:3])
        if number % max(1, total // _LOOKED_AT) == 0:
            with Image.open(io.BytesIO(tile.read())) as picture:
                picture.load()
                if picture.size != (cells, cells):
                    why = f"tile {tile[:3]} has {picture.size}"
                    raise ResourceError(f"{path} does not hold what was written", why, "report it")
    if dict(found) != dict(zooms) or len(seen) != total:
        why = f"{len(seen):,} tiles are there, {total:,} were made"
        raise ResourceError(f"{path} does not hold what was written", why, "try again, or report it")
    return len(seen)
