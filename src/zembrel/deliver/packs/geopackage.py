"""Tiles in a GeoPackage.

Source: OGC 12-128r18, clause 2.2: tables `gpkg_tile_matrix_set`, `gpkg_tile_matrix` and one of tiles, whose
rows count from the top of the matrix set's bounds.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

from zembrel.clock import time_of_writing
from zembrel.deliver.packs.packfacts import PackFacts
from zembrel.deliver.quadtree import EncodedTile
from zembrel.features.files.geopackage.metadata import write_provenance
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import write_crs
from zembrel.grid.extent import box_bounds
from zembrel.grid.tiling import Bounds, TileRange, Tiling

_APPLICATION, _VERSION = 0x47504B47, 10300  # "GPKG"
_SCHEMA = """
CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY,
  organization TEXT NOT NULL, organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL,
  description TEXT);
CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL,
  identifier TEXT UNIQUE, description TEXT DEFAULT '', last_change DATETIME NOT NULL, min_x DOUBLE,
  min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_tile_matrix_set (table_name TEXT NOT NULL PRIMARY KEY, srs_id INTEGER NOT NULL,
  min_x DOUBLE NOT NULL, min_y DOUBLE NOT NULL, max_x DOUBLE NOT NULL, max_y DOUBLE NOT NULL,
  CONSTRAINT fk_gtms_table_name FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gtms_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
CREATE TABLE gpkg_tile_matrix (table_name TEXT NOT NULL, zoom_level INTEGER NOT NULL,
  matrix_width INTEGER NOT NULL, matrix_height INTEGER NOT NULL, tile_width INTEGER NOT NULL,
  tile_height INTEGER NOT NULL, pixel_x_size DOUBLE NOT NULL, pixel_y_size DOUBLE NOT NULL,
  CONSTRAINT pk_ttm PRIMARY KEY (table_name, zoom_level),
  CONSTRAINT fk_tmm_table_name FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name));
CREATE TABLE gpkg_extensions (table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL,
  definition TEXT NOT NULL, scope TEXT NOT NULL, CONSTRAINT ge_tce UNIQUE (table_name, column_name,
  extension_name));
CREATE TABLE tiles (id INTEGER PRIMARY KEY AUTOINCREMENT, zoom_level INTEGER NOT NULL,
  tile_column INTEGER NOT NULL, tile_row INTEGER NOT NULL, tile_data BLOB NOT NULL,
  UNIQUE (zoom_level, tile_column, tile_row));
"""
_UNKNOWN = (
    ("Undefined Cartesian", -1, "NONE", -1, "undefined", "any plane"),
    ("Undefined geographic", 0, "NONE", 0, "undefined", "any surface"),
)
_BATCH = 2_000


class GeoPackagePack:
    """A database in the making."""

    def __init__(self, path: Path, tiling: Tiling) -> None:
        self._tiling, self._rows = tiling, list[tuple[int, int, int, bytes]]()
        self._webp = False
        self._file = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        for step in ("journal_mode = OFF", "synchronous = OFF", f"application_id = {_APPLICATION}",
                     f"user_version = {_VERSION}"):  # fmt: skip
            self._file.execute(f"PRAGMA {step}")
        self._file.executescript(_SCHEMA)
        self._file.execute("BEGIN")

    def put(self, tile: EncodedTile) -> None:
        self._webp |= tile.format == "webp"
        self._rows.append((*tile.address, tile.data))
        if len(self._rows) >= _BATCH:
            self._flush()

    def _flush(self) -> None:
        insert = "INSERT INTO tiles (zoom_level, tile_column, tile_row, tile_data) VALUES (?, ?, ?, ?)"
        self._file.executemany(insert, self._rows)
        self._rows = []

    def finish(self, facts: PackFacts) -> None:
        self._flush()
        tiling, crs = self._tiling, self._tiling.crs
        whole = tiling.bounds_of(TileRange(0, 0, 0, tiling.columns, tiling.rows))
        named = (crs.name, tiling.code, "EPSG", tiling.code, write_crs(crs, "wkt1"), "")
        systems = [named, *_UNKNOWN]
        if tiling.code != 4326:
            systems.append(("WGS 84", 4326, "EPSG", 4326, write_crs(by_code(4326), "wkt1"), ""))
        self._file.executemany("INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, ?)", systems)
        moment = time_of_writing().strftime("%Y-%m-%dT%H:%M:%S.000Z")
        self._file.execute(
            "INSERT INTO gpkg_contents VALUES ('tiles', 'tiles', ?, ?, ?, ?, ?, ?, ?, ?)",
            (facts.name, facts.description or facts.attribution, moment, *_extent(facts, whole), tiling.code),
        )
        self._file.execute(
            "INSERT INTO gpkg_tile_matrix_set VALUES ('tiles', ?, ?, ?, ?, ?)", (tiling.code, *whole)
        )
        for zoom in range(facts.lowest, facts.highest + 1):
            cell = tiling.tile_span(zoom) / facts.cells
            sizes = (tiling.columns << zoom, tiling.rows << zoom, facts.cells, facts.cells, cell, cell)
            self._file.execute(
                "INSERT INTO gpkg_tile_matrix VALUES ('tiles', ?, ?, ?, ?, ?, ?, ?)", (zoom, *sizes)
            )
        if self._webp:
            self._file.execute(
                "INSERT INTO gpkg_extensions VALUES ('tiles', 'tile_data', 'gpkg_webp', ?, 'read-write')",
                ("http://www.geopackage.org/spec/#extension_tiles_webp",),
            )
        write_provenance(self._file, "tiles")
        self._file.execute("COMMIT")
        self._file.close()

    def abort(self) -> None:
        self._file.close()


def _extent(facts: PackFacts, whole: Bounds) -> Bounds:
    """The extent of the data in the CRS of the tiles, within that of the set."""
    found = box_bounds(facts.told_bounds, by_code(4326), facts.tiling.crs)
    west, south = (max(one, end) for one, end in zip(found[:2], whole[:2], strict=True))
    east, north = (min(one, end) for one, end in zip(found[2:], whole[2:], strict=True))
    return west, south, east, north
