"""Tiles in an SQLite database of the MBTiles kind.

Source: MBTiles 1.3: tables `metadata` and `tiles`, here a view of places and pictures, so that a picture that
occurs often stands once; rows count from the bottom.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

from zembrel.deliver.packs.alike import KnownPictures
from zembrel.deliver.packs.packfacts import ENDINGS, PackFacts
from zembrel.deliver.quadtree import EncodedTile
from zembrel.provenance import KEY

_APPLICATION = 0x4D504258
_SCHEMA = """
CREATE TABLE metadata (name TEXT, value TEXT);
CREATE TABLE places (zoom_level INTEGER, tile_column INTEGER, tile_row INTEGER, picture INTEGER);
CREATE TABLE pictures (picture INTEGER PRIMARY KEY, tile_data BLOB);
CREATE VIEW tiles AS SELECT zoom_level, tile_column, tile_row, tile_data
  FROM places JOIN pictures ON pictures.picture = places.picture;
"""
_BATCH = 2_000


class MBTilesPack:
    """A database in the making."""

    def __init__(self, path: Path, rows: int = 1) -> None:
        self._rows = rows
        self._file = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        for step in ("PRAGMA journal_mode = OFF", "PRAGMA synchronous = OFF", "PRAGMA page_size = 4096"):
            self._file.execute(step)
        self._file.execute(f"PRAGMA application_id = {_APPLICATION}")
        self._file.executescript(_SCHEMA)
        self._file.execute("BEGIN")
        self._known, self._next, self._written = KnownPictures(self._holds), 1, 0
        self._places: list[tuple[int, int, int, int]] = []
        self._pictures: list[tuple[int, bytes]] = []

    def put(self, tile: EncodedTile) -> None:
        (zoom, column, row), data, _ = tile
        number = self._known.place_of(data, self._next)
        if number == self._next:
            self._pictures.append((number, data))
            self._next += 1
        self._places.append((zoom, column, (self._rows << zoom) - 1 - row, number))
        if len(self._places) >= _BATCH:
            self._flush()

    def _holds(self, number: int, data: bytes) -> bool:
        if number > self._written:
            self._flush()
        same = "SELECT tile_data = ? FROM pictures WHERE picture = ?"
        return bool(self._file.execute(same, (data, number)).fetchone()[0])

    def _flush(self) -> None:
        self._file.executemany("INSERT INTO pictures VALUES (?, ?)", self._pictures)
        self._file.executemany("INSERT INTO places VALUES (?, ?, ?, ?)", self._places)
        self._pictures, self._places, self._written = [], [], self._next - 1

    def finish(self, facts: PackFacts) -> None:
        self._flush()
        lon, lat, zoom = facts.centre
        rows = {
            "name": facts.name, "format": ENDINGS[facts.format], "minzoom": str(facts.lowest),
            "maxzoom": str(facts.highest), "type": "baselayer", "version": "1",
            "bounds": ",".join(f"{side:.9g}" for side in facts.told_bounds),
            "center": f"{lon:.9g},{lat:.9g},{zoom}",
            "attribution": facts.attribution, "description": facts.description,
            KEY: facts.provenance or "",
        }  # fmt: skip
        rows |= {f"elevation_{key}": str(value) for key, value in facts.elevation.items()}
        held = [(name, value) for name, value in rows.items() if value]
        self._file.executemany("INSERT INTO metadata VALUES (?, ?)", held)
        self._file.execute("CREATE UNIQUE INDEX tile_index ON places (zoom_level, tile_column, tile_row)")
        self._file.execute("COMMIT")
        self._file.close()

    def abort(self) -> None:
        self._file.close()
