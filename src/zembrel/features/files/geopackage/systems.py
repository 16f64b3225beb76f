"""The table of reference systems of a GeoPackage."""

from __future__ import annotations

import re
import sqlite3
from typing import Any

from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import write_crs

_OWN_CODE = 100_000  # srs_id of a CRS without a code, or the next that is free
_UNDEFINED = -1


def system_of(file: sqlite3.Connection, crs: CRS | None) -> int:
    """The number of `crs` in the file, which has the three rows that every GeoPackage has."""
    names = [str(row[1]) for row in file.execute("PRAGMA table_info(gpkg_spatial_ref_sys)")]
    known: dict[tuple[str, int], int] = {
        (str(organization).upper(), int(code)): int(srs)
        for srs, organization, code in file.execute(
            "SELECT srs_id, organization, organization_coordsys_id FROM gpkg_spatial_ref_sys"
        )
    }

    def tell(name: str, srs: int, organization: str, code: int, crs: CRS | None) -> None:
        text = "undefined" if crs is None else write_crs(crs)
        row: dict[str, Any] = {
            "srs_name": name, "srs_id": srs, "organization": organization, "organization_coordsys_id": code,
            "definition": text,
        }  # fmt: skip
        if "definition_12_063" in names:
            row["definition_12_063"] = "undefined" if crs is None else write_crs(crs, "wkt2")
        columns, marks = ", ".join(row), ", ".join("?" * len(row))
        file.execute(f"INSERT INTO gpkg_spatial_ref_sys ({columns}) VALUES ({marks})", list(row.values()))
        known[organization, code] = srs

    for name, srs, organization, there in (
        ("undefined Cartesian", -1, "NONE", None),
        ("undefined geographic", 0, "NONE", None),
        ("WGS 84", 4326, "EPSG", by_code(4326)),
    ):
        if (organization, srs) not in known:
            tell(name, srs, organization, srs, there)
    if crs is None:
        return _UNDEFINED
    name, numbers = re.sub(r"\s+", " ", crs.name), set(known.values())
    if crs.code:
        if ("EPSG", crs.code) not in known:
            free = max(max(numbers), _OWN_CODE - 1) + 1
            tell(name, free if crs.code in numbers else crs.code, "EPSG", crs.code, crs)
        return known["EPSG", crs.code]
    own = max(max(numbers), _OWN_CODE - 1) + 1
    tell(name, own, "NONE", own, crs)
    return own
