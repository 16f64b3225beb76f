"""Layers beside layers, ids, native encodings, time zones and codes: what survives from file to file."""

from __future__ import annotations

import json
import re
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import shapefile
import shapely

from program import Program
from zembrel.errors import InputError
from zembrel.features.files import layers_of, read_features, write_features
from zembrel.features.table import FeatureTable, geometry_array
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import read_crs, write_crs

UTM = by_code(32626)


def points(count: int, **more: object) -> FeatureTable:
    rows = [{"n": n, **more} for n in range(count)]
    return FeatureTable.of([shapely.Point(700_000 + n, 5_100_000) for n in range(count)], rows, UTM)


def rows_of(path: Path, query: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(path)) as file:
        return file.execute(query).fetchall()


@pytest.fixture
def atlas(zembrel: Program) -> Path:
    """Three layers: 5 wells, 3 roads and 4 woods."""
    path = zembrel.folder / "atlas.gpkg"
    for name, count in (("wells", 5), ("roads", 3), ("woods", 4)):
        write_features(zembrel.folder / f"{name}.gpkg", points(count), name)
        zembrel("convert", f"{name}.gpkg", "--out", "atlas.gpkg", "--into", name)
    return path


def test_a_layer_goes_in_beside_others_which_stay_as_they_are(zembrel: Program, atlas: Path) -> None:
    assert layers_of(atlas) == ["wells", "roads", "woods"]
    before = rows_of(atlas, "SELECT * FROM wells"), rows_of(atlas, "SELECT * FROM rtree_wells_geom")
    what, _, remedy = zembrel.refuses(4, "convert", "roads.gpkg", "--out", "atlas.gpkg", "--into", "woods")
    assert "holds a layer woods already" in what and "--replace" in remedy
    zembrel("convert", "roads.gpkg", "--out", "atlas.gpkg", "--into", "woods", "--replace")
    assert layers_of(atlas) == ["wells", "roads", "woods"] and len(read_features(atlas, "woods")) == 3
    assert (rows_of(atlas, "SELECT * FROM wells"), rows_of(atlas, "SELECT * FROM rtree_wells_geom")) == before
    assert (
        rows_of(atlas, "PRAGMA integrity_check")
        == [("ok",)]
        == rows_of(atlas, "SELECT 'ok' WHERE NOT EXISTS (SELECT * FROM pragma_foreign_key_check)")
    )
    assert rows_of(atlas, "SELECT count(*) FROM rtree_woods_geom") == [(3,)]


def test_other_programs_tables_and_systems_stay(zembrel: Program, atlas: Path) -> None:
    with closing(sqlite3.connect(atlas)) as file:
        file.executescript(
            "PRAGMA journal_mode = WAL; CREATE TABLE notes (id INTEGER PRIMARY KEY, words TEXT);"
            "INSERT INTO notes VALUES (7, 'from elsewhere');"
            "INSERT INTO gpkg_spatial_ref_sys VALUES ('mine', 3857, 'NONE', 9, 'undefined', '');"
        )
    zembrel("reproject", "roads.gpkg", "--crs", "EPSG:3857", "--out", "atlas.gpkg", "--into", "web")
    assert rows_of(atlas, "SELECT * FROM notes") == [(7, "from elsewhere")]
    assert read_features(atlas, "web").crs == by_code(3857), "though its number was taken by another system"
    assert rows_of(atlas, "SELECT srs_id FROM gpkg_geometry_columns WHERE table_name = 'web'") != [(3857,)]


def test_what_another_program_keeps_is_never_replaced(zembrel: Program, atlas: Path) -> None:
    with closing(sqlite3.connect(atlas)) as file:
        file.executescript("CREATE TABLE notes (words TEXT); INSERT INTO notes VALUES ('mine');")
    for name, word in (("notes", "table notes"), ("NOTES", "table notes"), ("Roads", "layer roads")):
        for more in ((), ("--replace",)):
            what, _, _ = zembrel.refuses(
                4, "convert", "wells.gpkg", "--out", "atlas.gpkg", "--into", name, *more
            )
            assert word in what
    assert rows_of(atlas, "SELECT * FROM notes") == [("mine",)]


def test_a_package_without_layers_gets_its_first(zembrel: Program, atlas: Path) -> None:
    with closing(sqlite3.connect(atlas)) as file:
        for table in ("gpkg_geometry_columns", "gpkg_contents"):
            file.execute(f"DELETE FROM {table}")
        file.commit()
    zembrel("convert", "wells.gpkg", "--out", "atlas.gpkg", "--into", "springs")
    assert layers_of(atlas) == ["springs"]
    (zembrel.folder / "junk.gpkg").write_text("no database")
    zembrel.refuses(3, "convert", "wells.gpkg", "--out", "junk.gpkg", "--into", "a")


@pytest.mark.parametrize(
    "words",
    [
        ("--out", "x.geojson", "--into", "a"),
        ("--out", "atlas.gpkg", "--into", "gpkg_contents"),
        ("--out", "roads.tif", "--into", "a"),
    ],
)
def test_into_is_refused_where_it_makes_no_sense(
    zembrel: Program, atlas: Path, words: tuple[str, ...]
) -> None:
    zembrel.refuses(2, "convert", "roads.gpkg", *words)
    zembrel.refuses(4, "convert", "atlas.gpkg", "--out", "atlas.gpkg", "--into", "again")  # it is read


def test_all_layers_go_along(zembrel: Program, atlas: Path) -> None:
    said = zembrel("reproject", "atlas.gpkg", "--layer", "*", "--crs", "EPSG:4326", "--out", "world.gpkg").err
    assert "3 layers: wells 5, roads 3, woods 4" in said and "12 features" in said
    assert layers_of(zembrel.folder / "world.gpkg") == ["wells", "roads", "woods"]
    assert [len(read_features(zembrel.folder / "world.gpkg", n)) for n in ("wells", "roads", "woods")] == [
        5,
        3,
        4,
    ]
    zembrel("convert", "atlas.gpkg", "--layer", "w*", "--format", "shapefile", "--out", "parts/")
    assert {path.name for path in (zembrel.folder / "parts").glob("*.shp")} == {"wells.shp", "woods.shp"}
    with shapefile.Reader(str(zembrel.folder / "parts/woods")) as reader:
        assert len(reader) == 4
    zembrel("mosaic", "atlas.gpkg", "--layer", "wells,woods", "--out", "both.geojson")
    assert len(read_features(zembrel.folder / "both.geojson")) == 9
    said = zembrel("describe", "atlas.gpkg", "--layer", "*").out
    assert all(re.search(rf"layer +{name}\n", said) for name in ("wells", "roads", "woods")), said
    what, _, _ = zembrel.refuses(2, "convert", "atlas.gpkg", "--layer", "*", "--out", "one.shp")
    assert "3 layers make 3 results" in what
    zembrel.refuses(3, "convert", "atlas.gpkg", "--layer", "x*", "--out", "one.shp")
    what, _, _ = zembrel.refuses(
        2, "rasterize", "atlas.gpkg", "--layer", "*", "--cell", "1m", "--out", "r.tif"
    )
    assert "fits 3 layers" in what


def test_layers_outside_the_area_are_counted_and_left_out(zembrel: Program, atlas: Path) -> None:
    away = FeatureTable.of([shapely.Point(0, 0)], [{"n": 1}], UTM)
    write_features(zembrel.folder / "away.gpkg", away, "away")
    zembrel("convert", "away.gpkg", "--out", "atlas.gpkg", "--into", "away")
    said = zembrel(
        "clip", "atlas.gpkg", "--layer", "*", "--within", "699999,5099999,700001,5100001", "--out", "c.gpkg"
    )
    assert (
        layers_of(zembrel.folder / "c.gpkg") == ["wells", "roads", "woods"] and "left out: away" in said.err
    )


def test_ids_are_kept(zembrel: Program) -> None:
    table = FeatureTable(points(3).geometries, {"n": np.arange(3)}, UTM, (), np.array([7, 40, 12]), "fid")
    write_features(zembrel.folder / "a.gpkg", table, "a")
    assert rows_of(zembrel.folder / "a.gpkg", "SELECT fid, n FROM a ORDER BY n") == [(7, 0), (40, 1), (12, 2)]
    zembrel("clip", "a.gpkg", "--within", "700000.5,5099999,700003,5100001", "--out", "b.gpkg")
    assert rows_of(zembrel.folder / "b.gpkg", "SELECT fid, n FROM b ORDER BY n") == [(40, 1), (12, 2)]
    assert rows_of(zembrel.folder / "b.gpkg", "SELECT id FROM rtree_b_geom ORDER BY id") == [(12,), (40,)]
    zembrel("convert", "a.gpkg", "--where", "fid > 10", "--out", "a.geojson")
    features = json.loads((zembrel.folder / "a.geojson").read_text())["features"]
    assert [(f["id"], f["properties"]) for f in features] == [(12, {"n": 2}), (40, {"n": 1})]
    zembrel("convert", "a.geojson", "--out", "c.gpkg")
    assert rows_of(zembrel.folder / "c.gpkg", "SELECT fid, n FROM c ORDER BY n") == [(40, 1), (12, 2)]
    zembrel("mosaic", "a.gpkg", "b.gpkg", "--out", "d.gpkg")  # 40 and 12 come twice
    assert [row[0] for row in rows_of(zembrel.folder / "d.gpkg", "SELECT fid FROM d")] == [1, 2, 3, 4, 5]
    words = {"type": "Feature", "id": "oak-9", "properties": {"h": 3}, "geometry": None}
    (zembrel.folder / "w.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [words]}))
    zembrel("convert", "w.geojson", "--out", "w2.geojson")
    again = json.loads((zembrel.folder / "w2.geojson").read_text())["features"][0]
    assert again["id"] == "oak-9" and again["properties"] == {"h": 3}
    zembrel("convert", "w.geojson", "--out", "w.csv")
    assert "oak-9" in (zembrel.folder / "w.csv").read_text(), "a file without ids has them as a field"


SQUARE = shapely.box(0, 0, 4, 4).difference(shapely.box(1, 1, 2, 2))
NATIVE = {
    "point": (shapely.Point(1, 2), shapely.Point(3, 4.5)),
    "linestring": (shapely.LineString([(0, 0), (1, 2), (3, 3)]), shapely.LineString([(5, 5), (6, 6)])),
    "multipoint": (shapely.MultiPoint([(0, 0), (1, 2)]), shapely.MultiPoint([(9, 9)])),
    "polygon": (SQUARE, shapely.box(7, 7, 8, 8)),
    "multilinestring": (shapely.MultiLineString([[(0, 0), (1, 1)], [(2, 2), (3, 3), (4, 5)]]),) * 2,
    "multipolygon": (shapely.MultiPolygon([SQUARE, shapely.box(10, 10, 11, 12)]),) * 2,
}  # fmt: skip


def as_lists(geometry: shapely.Geometry | None, z: bool) -> object:
    """A geometry as nested lists of structs, by its own parts."""
    if geometry is None:
        return None
    if hasattr(geometry, "geoms"):
        return [as_lists(part, z) for part in geometry.geoms]
    if geometry.geom_type == "Polygon":
        return [as_lists(ring, z) for ring in (geometry.exterior, *geometry.interiors)]
    names = "xyz" if z else "xy"
    found = [dict(zip(names, corner, strict=True)) for corner in geometry.coords]
    return found[0] if geometry.geom_type == "Point" else found


@pytest.mark.parametrize("encoding", NATIVE)
@pytest.mark.parametrize("z", [False, True])
def test_native_encodings_are_read(tmp_path: Path, encoding: str, z: bool) -> None:
    shapes = [NATIVE[encoding][0], None, NATIVE[encoding][1]]
    shapes = [shapely.force_3d(shape, 5.0) if z else shape for shape in shapes]
    column = pa.array([as_lists(shape, z) for shape in shapes])
    covering = {"bbox": {side: ["bbox", side] for side in ("xmin", "ymin", "xmax", "ymax")}}
    facts = {"encoding": encoding, "geometry_types": [], "crs": None, "covering": covering}
    geo = {"version": "1.1.0", "primary_column": "geometry", "columns": {"geometry": facts}}
    boxes = pa.array([{"xmin": 0.0, "ymin": 0.0, "xmax": 1.0, "ymax": 1.0}] * 3)
    table = pa.table({"n": [1, 2, 3], "geometry": column, "bbox": boxes})
    pq.write_table(table.replace_schema_metadata({"geo": json.dumps(geo)}), tmp_path / "n.parquet")
    found = read_features(tmp_path / "n.parquet")
    assert list(found.columns) == ["n"], "the boxes that cover the features are no field"
    assert shapely.equals_exact(found.geometries, geometry_array(shapes), 0).tolist() == [True, False, True]
    assert found.geometries[1] is None and bool(shapely.has_z(found.geometries[0])) == z


@pytest.mark.parametrize("covering", [None, {"bbox": 3}, {"bbox": {"xmin": 3}}, {"bbox": {"xmin": []}}])
def test_metadata_that_is_none_is_no_fault_of_ours(tmp_path: Path, covering: object) -> None:
    facts = {"encoding": "WKB", "geometry_types": [], "crs": None, "covering": covering}
    geo = {"version": "1.1.0", "primary_column": "geometry", "columns": {"geometry": facts}}
    table = pa.table({"geometry": [shapely.Point(1, 2).wkb]})
    pq.write_table(table.replace_schema_metadata({"geo": json.dumps(geo)}), tmp_path / "c.parquet")
    assert len(read_features(tmp_path / "c.parquet")) == 1
    pairs = pa.table({"geometry": pa.array([[1.0, 2.0]], pa.list_(pa.float64(), 2))})
    geo["columns"] = {"geometry": facts | {"encoding": "point"}}
    pq.write_table(pairs.replace_schema_metadata({"geo": json.dumps(geo)}), tmp_path / "p.parquet")
    with pytest.raises(InputError, match="no sound GeoParquet"):
        read_features(tmp_path / "p.parquet")


def test_time_zones_are_kept(tmp_path: Path) -> None:
    noon = datetime(2027, 6, 21, 12, 0, 0, 250_000)
    zones = {
        "azores": ZoneInfo("Atlantic/Azores"),
        "utc": UTC,
        "east": timezone(timedelta(hours=5, minutes=30)),
    }
    rows = [{"plain": noon, **{name: noon.replace(tzinfo=zone) for name, zone in zones.items()}}]
    rows[0]["mixed"] = noon.replace(tzinfo=UTC)
    rows.append(rows[0] | {"mixed": noon.replace(tzinfo=zones["east"])})
    write_features(tmp_path / "t.parquet", FeatureTable.of([shapely.Point(0, 0)] * 2, rows, UTM), "t")
    schema = pq.read_schema(tmp_path / "t.parquet")
    assert {name: schema.field(name).type.tz for name in rows[0]} == {
        "plain": None, "azores": "Atlantic/Azores", "utc": "UTC", "east": "+05:30", "mixed": "UTC",
    }  # fmt: skip
    back = next(read_features(tmp_path / "t.parquet").rows())
    assert back == rows[0] and back["azores"].utcoffset() == timedelta(0)
    half = FeatureTable.of([shapely.Point(0, 0)] * 2, [{"t": noon}, {"t": noon.replace(tzinfo=UTC)}], UTM)
    write_features(tmp_path / "h.parquet", half, "h")
    assert pa.types.is_string(pq.read_schema(tmp_path / "h.parquet").field("t").type), "no zone is made up"
    fine = pa.table({"t": pa.array([1_000_000_000, 1_000_000_001], pa.timestamp("ns", "UTC")),
                     "geometry": [shapely.Point(0, 0).wkb] * 2})  # fmt: skip
    geo = {"version": "1.1.0", "primary_column": "geometry", "columns": {"geometry": {"encoding": "WKB"}}}
    pq.write_table(fine.replace_schema_metadata({"geo": json.dumps(geo)}), tmp_path / "f.parquet")
    assert "microsecond" in read_features(tmp_path / "f.parquet").remarks[0]


def test_codes_say_what_they_mean(zembrel: Program) -> None:
    write_features(zembrel.folder / "w.gpkg", points(6, kind="heath"), "w")
    zembrel("rasterize", "w.gpkg", "--field", "kind", "--cell", "1m", "--out", "w.tif")
    zembrel("polygonize", "w.tif", "--out", "p.gpkg")
    zembrel("polygonize", "w.tif", "--out", "p.gpkg", "--into", "p", "--replace")
    path = zembrel.folder / "p.gpkg"
    told = rows_of(path, "SELECT c.value, c.description FROM gpkg_data_columns d JOIN gpkg_data_column_constraints"
                         " c USING (constraint_name) WHERE d.table_name = 'p' AND d.column_name = 'value'")  # fmt: skip
    code = rows_of(path, "SELECT DISTINCT value, name FROM p")
    assert told == [(str(code[0][0]), "heath")] and code[0][1] == "heath"
    named = rows_of(path, "SELECT table_name FROM gpkg_extensions WHERE extension_name = 'gpkg_schema'")
    assert sorted(named) == [("gpkg_data_column_constraints",), ("gpkg_data_columns",)]


@pytest.mark.parametrize("code", [4326, 32626, 25832, 4269, 2225, 27700, 3857, 4807])
def test_sidecars_speak_the_dialect_of_prj_and_are_understood_in_it(code: int) -> None:
    text = write_crs(by_code(code), "prj")
    assert 'DATUM["D_' in text and 'GEOGCS["GCS_' in text and "AUTHORITY" not in text and " " not in text
    assert read_crs(text) == by_code(code)


def test_the_usual_names_of_prj_are_known() -> None:
    """Texts as other writers spell them."""
    degrees = 'PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]]'
    for name, spheroid, code in (
        ("ETRS_1989", '"GRS_1980",6378137.0,298.257222101', 4258),
        ("WGS_1984", '"WGS_1984",6378137.0,298.257223563', 4326),
        ("North_American_1983", '"GRS_1980",6378137.0,298.257222101', 4269),
        ("North_American_1927", '"Clarke_1866",6378206.4,294.9786982', 4267),
    ):
        text = f'GEOGCS["GCS_{name}",DATUM["D_{name}",SPHEROID[{spheroid}]],{degrees}'
        assert read_crs(text).code == code


@pytest.mark.parametrize("code", [4326, 4258, 32626, 2193, 27700, 31370, 4047])
def test_the_json_of_a_crs_is_complete(code: int) -> None:
    """Each part that readers of the form ask for stands there."""
    crs = json.loads(write_crs(by_code(code), "json"))
    for axis in crs["coordinate_system"]["axis"]:
        assert {"name", "abbreviation", "direction", "unit"} <= set(axis)
    base = crs.get("base_crs", crs)
    if code in (4326, 4258, 32626):
        ensemble = base["datum_ensemble"]
        assert len(ensemble["members"]) > 5 and float(ensemble["accuracy"]) > 0 and "datum" not in base
    else:
        ellipsoid = base["datum"]["ellipsoid"]
        assert "radius" in ellipsoid or {"semi_major_axis", "inverse_flattening"} <= set(ellipsoid)
    assert all({"name", "value", "unit"} <= set(p) for p in crs.get("conversion", {}).get("parameters", []))
    assert read_crs(json.dumps(crs)) == by_code(code)
