"""Tiles in an SQLite database of the MBTiles kind.

Source: MBTiles 1.3: tables `metadata` and `tiles`, here a view of places and pictures, so that a picture that
occurs often stands once; rows count from the bottom.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

from zembrel.deliver.packs.facts import ENDINGS, PackFacts
from zembrel.deliver.quadtree import EncodedTile, TileMark
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
        self._numbers: dict[TileMark, int] = {}
        self._places: list[tuple[int, int, int, int]] = []
        self._pictures: list[tuple[int, bytes]] = []

    def put(self, tile: EncodedTile) -> None:
        mark = tile.mark
        number = self._numbers.get(mark)
        if number is None:
            number = self._numbers[mark] = len(self._numbers) + 1
            self._pictures.append((number, tile.data))
        zoom, column, row = tile.address
        self._places.append((zoom, column, (self._rows << zoom) - 1 - row, number))
        if len(self._places) >= _BATCH:
            self._flush()

    def _flush(self) -> None:
        self._file.executemany("INSERT INTO pictures VALUES (?, ?)", self._pictures)
        self._file.executemany("INSERT INTO places VALUES (?, ?, ?, ?)", self._places)
        self._pictures, self._places = [], []

    def finish(self, facts: PackFacts) -> None:
        self._flush()
        lon, lat, zoom = facts.centre
        rows = {
            "name": facts.name, "format": ENDINGS[facts.format], "minzoom": str(facts.lowest),
            "maxzoom": str(facts.highest), "type": "baselayer", "version": "1",
            "bounds": ",".join(f"{side:.9g}" for side in facts.bounds),
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
