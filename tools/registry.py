"""Make the registry file that ships with Zembrel from the EPSG dataset as a SQLite database.

Usage: registry.py epsg.sqlite TERMS-OF-USE.md. Values are copied as they are; only what is not needed
(change history, remarks, naming systems) is left out. The terms go with the file.
"""

from __future__ import annotations

import shutil
import sqlite3
import sys
from pathlib import Path

GEODESY = Path(__file__).parent.parent / "src" / "zembrel" / "geodesy"
RESULT = GEODESY / "registry.sqlite"
TABLES = {
    # table: (columns, query)
    "about": ("version TEXT PRIMARY KEY, owner TEXT", """
        SELECT version_number, 'EPSG Geodetic Parameter Dataset, owned by IOGP' FROM epsg_versionhistory
        ORDER BY version_history_code DESC LIMIT 1"""),
    "unit": ("code INTEGER PRIMARY KEY, name TEXT, kind TEXT, target INTEGER, b REAL, c REAL", """
        SELECT uom_code, unit_of_meas_name, unit_of_meas_type, target_uom_code, factor_b, factor_c
        FROM epsg_unitofmeasure"""),
    "ellipsoid": (
        "code INTEGER PRIMARY KEY, name TEXT, semi_major REAL, unit INTEGER, inverse_flattening REAL, semi_minor REAL",
        """SELECT ellipsoid_code, ellipsoid_name, semi_major_axis, uom_code, inv_flattening, semi_minor_axis
        FROM epsg_ellipsoid"""),
    "meridian": ("code INTEGER PRIMARY KEY, name TEXT, longitude REAL, unit INTEGER", """
        SELECT prime_meridian_code, prime_meridian_name, greenwich_longitude, uom_code FROM epsg_primemeridian"""),
    "datum": (
        "code INTEGER PRIMARY KEY, name TEXT, kind TEXT, ellipsoid INTEGER, meridian INTEGER, epoch REAL, accuracy REAL",
        """SELECT datum_code, datum_name, datum_type, ellipsoid_code, prime_meridian_code, frame_reference_epoch,
        ensemble_accuracy FROM epsg_datum LEFT JOIN epsg_datumensemble ON datum_ensemble_code = datum_code"""),
    "member": ("ensemble INTEGER, datum INTEGER, PRIMARY KEY (ensemble, datum)", """
        SELECT datum_ensemble_code, datum_code FROM epsg_datumensemblemember"""),
    "axis": (
        "cs INTEGER, position INTEGER, orientation TEXT, abbreviation TEXT, unit INTEGER, PRIMARY KEY (cs, position)",
        """SELECT coord_sys_code, coord_axis_order, coord_axis_orientation, coord_axis_abbreviation, uom_code
        FROM epsg_coordinateaxis"""),
    "extent": ("code INTEGER PRIMARY KEY, name TEXT, west REAL, south REAL, east REAL, north REAL", """
        SELECT extent_code, extent_name, bbox_west_bound_lon, bbox_south_bound_lat, bbox_east_bound_lon,
        bbox_north_bound_lat FROM epsg_extent WHERE extent_code IN (SELECT extent_code FROM epsg_usage
        WHERE object_table_name IN ('epsg_coordinatereferencesystem', 'epsg_coordoperation'))"""),
    "crs": (
        "code INTEGER PRIMARY KEY, name TEXT, kind TEXT, cs INTEGER, datum INTEGER, base INTEGER, conversion INTEGER, "
        "horizontal INTEGER, vertical INTEGER, extent INTEGER, deprecated INTEGER",
        """SELECT coord_ref_sys_code, coord_ref_sys_name, coord_ref_sys_kind, coord_sys_code, datum_code,
        base_crs_code, projection_conv_code, cmpd_horizcrs_code, cmpd_vertcrs_code,
        (SELECT extent_code FROM epsg_usage WHERE object_table_name = 'epsg_coordinatereferencesystem'
         AND object_code = coord_ref_sys_code ORDER BY usage_code LIMIT 1), deprecated
        FROM epsg_coordinatereferencesystem"""),
    "method": ("code INTEGER PRIMARY KEY, name TEXT, reversible INTEGER", """
        SELECT coord_op_method_code, coord_op_method_name, reverse_op FROM epsg_coordoperationmethod"""),
    "operation": (
        "code INTEGER PRIMARY KEY, name TEXT, kind TEXT, method INTEGER, source INTEGER, target INTEGER, "
        "accuracy REAL, extent INTEGER, deprecated INTEGER",
        """SELECT coord_op_code, coord_op_name, coord_op_type, coord_op_method_code, source_crs_code, target_crs_code,
        coord_op_accuracy, (SELECT extent_code FROM epsg_usage WHERE object_table_name = 'epsg_coordoperation'
        AND object_code = coord_op_code ORDER BY usage_code LIMIT 1), deprecated FROM epsg_coordoperation"""),
    "value": (
        "operation INTEGER, parameter INTEGER, value REAL, unit INTEGER, file TEXT, PRIMARY KEY (operation, parameter)",
        """SELECT coord_op_code, parameter_code, parameter_value, uom_code, nullif(param_value_file_ref, '')
        FROM epsg_coordoperationparamvalue"""),
    "parameter": ("code INTEGER PRIMARY KEY, name TEXT", """
        SELECT parameter_code, parameter_name FROM epsg_coordoperationparam"""),
    "usage": ("method INTEGER, parameter INTEGER, PRIMARY KEY (method, parameter)", """
        SELECT coord_op_method_code, parameter_code FROM epsg_coordoperationparamusage"""),
    "step": ("operation INTEGER, position INTEGER, single INTEGER, PRIMARY KEY (operation, position)", """
        SELECT concat_operation_code, op_path_step, single_operation_code FROM epsg_coordoperationpath"""),
    "replacement": ("crs INTEGER PRIMARY KEY, replaced_by INTEGER", """
        SELECT object_code, max(replaced_by) FROM epsg_deprecation
        WHERE object_table_name = 'epsg_coordinatereferencesystem' AND replaced_by IS NOT NULL GROUP BY object_code"""),
    "alias": ("kind TEXT, code INTEGER, name TEXT, PRIMARY KEY (kind, code, name)", """
        SELECT DISTINCT CASE object_table_name WHEN 'epsg_datum' THEN 'datum' ELSE 'crs' END, object_code, alias
        FROM epsg_alias WHERE object_table_name IN ('epsg_datum', 'epsg_coordinatereferencesystem')"""),
}  # fmt: skip
INDEXES = (
    "CREATE INDEX crs_by_name ON crs (name COLLATE NOCASE)",
    "CREATE INDEX crs_by_datum ON crs (datum)",
    "CREATE INDEX crs_by_extent ON crs (extent)",
    "CREATE INDEX alias_by_name ON alias (name COLLATE NOCASE)",
    "CREATE INDEX operation_by_ends ON operation (source, target) WHERE kind <> 'conversion'",
)


def main(source: Path, terms: Path) -> None:
    RESULT.unlink(missing_ok=True)
    made = sqlite3.connect(RESULT)
    made.execute("PRAGMA page_size = 4096")
    made.execute("ATTACH ? AS source", (f"{source}",))
    for table, (columns, query) in TABLES.items():
        made.execute(f"CREATE TABLE {table} ({columns}) WITHOUT ROWID")
        made.execute(f"INSERT INTO {table} {query}")
    for index in INDEXES:
        made.execute(index)
    made.commit()
    made.execute("DETACH source")
    made.execute("VACUUM")
    made.close()
    shutil.copyfile(terms, GEODESY / "EPSG-TERMS-OF-USE.md")
    print(f"{RESULT}: {RESULT.stat().st_size:,} bytes")


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
