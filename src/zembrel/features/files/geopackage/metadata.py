"""How a GeoPackage came about, in its tables of metadata.

Source: OGC GeoPackage 1.3 (12-128r17), annex F.8, "Metadata".
"""

from __future__ import annotations

import sqlite3
from contextlib import suppress
from pathlib import Path

from zembrel.clock import time_of_writing
from zembrel.provenance import document, found

_URI = "http://www.geopackage.org/spec/#extension_metadata"
_TABLES = (
    """CREATE TABLE IF NOT EXISTS gpkg_metadata (id INTEGER CONSTRAINT m_pk PRIMARY KEY ASC NOT NULL,
  md_scope TEXT NOT NULL DEFAULT 'dataset', md_standard_uri TEXT NOT NULL,
  mime_type TEXT NOT NULL DEFAULT 'text/xml', metadata TEXT NOT NULL DEFAULT '')""",
    """CREATE TABLE IF NOT EXISTS gpkg_metadata_reference (reference_scope TEXT NOT NULL, table_name TEXT,
  column_name TEXT, row_id_value INTEGER, timestamp DATETIME NOT NULL
  DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')), md_file_id INTEGER NOT NULL, md_parent_id INTEGER,
  CONSTRAINT crmr_mfi_fk FOREIGN KEY (md_file_id) REFERENCES gpkg_metadata(id),
  CONSTRAINT crmr_mpi_fk FOREIGN KEY (md_parent_id) REFERENCES gpkg_metadata(id))""",
)


def write_provenance(file: sqlite3.Connection, table: str) -> None:
    """Tell in a GeoPackage how one of its tables comes about."""
    told = document()
    if told is None:
        return
    for statement in _TABLES:
        file.execute(statement)
    for name in ("gpkg_metadata", "gpkg_metadata_reference"):
        row = (name, _URI)
        file.execute(
            "INSERT INTO gpkg_extensions SELECT ?1, NULL, 'gpkg_metadata', ?2, 'read-write' "
            "WHERE NOT EXISTS (SELECT 1 FROM gpkg_extensions WHERE table_name = ?1)", row,
        )  # fmt: skip
    insert = "INSERT INTO gpkg_metadata (md_scope, md_standard_uri, mime_type, metadata) VALUES (?, ?, ?, ?)"
    number = file.execute(insert, ("dataset", "https://json.org", "application/json", told)).lastrowid
    file.execute(
        "INSERT INTO gpkg_metadata_reference VALUES ('table', ?, NULL, NULL, ?, ?, NULL)",
        (table, f"{time_of_writing():%Y-%m-%dT%H:%M:%S.000Z}", number),
    )


def read_provenance(path: Path, file: sqlite3.Connection) -> None:
    """Note what a GeoPackage tells of how its tables came about."""
    with suppress(sqlite3.Error):
        rows = file.execute("SELECT metadata FROM gpkg_metadata WHERE mime_type = 'application/json'")
        for (text,) in rows.fetchmany(1000):
            found(path, str(text))
