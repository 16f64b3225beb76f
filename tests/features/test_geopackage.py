"""GeoPackages: read by SQLite alone, written by the book, and refused when broken."""

from __future__ import annotations

import sqlite3
import struct
from contextlib import closing
from pathlib import Path

import pytest
import shapely

from zembrel.errors import InputError
from zembrel.features.files import layers_of, read_features, write_features
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code

SHAPES = (
    shapely.box(730_000, 5_097_000, 731_000, 5_098_500),
    shapely.MultiPolygon([shapely.box(0, 0, 1, 1), shapely.box(2, 2, 3, 3)]),
    shapely.Point(5, 7).buffer(2).difference(shapely.Point(5, 7).buffer(1)),
)
ROWS = [
    {"name": "a; DROP", "height": 3, "slope": 0.25},
    {"name": None, "height": 4.5},
    {"wood": True, "name": "c"},
]


@pytest.fixture
def path(tmp_path: Path) -> Path:
    write_features(tmp_path / "p.gpkg", FeatureTable.of(SHAPES, ROWS, by_code(32626)), 'odd "name"')
    return tmp_path / "p.gpkg"


def bare(file: sqlite3.Connection) -> None:
    """Take the triggers away, whose functions SQLite lacks."""
    for (name,) in file.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        file.execute(f'DROP TRIGGER "{name.replace(chr(34), chr(34) * 2)}"')


def changed(path: Path, statement: str, *values: object) -> None:
    """Change the table as another program would, with the functions its triggers ask for."""
    with closing(sqlite3.connect(path)) as file, file:
        file.create_function("ST_IsEmpty", 1, lambda blob: shapely.from_wkb(blob[40:]).is_empty)
        for n, name in enumerate(("ST_MinX", "ST_MinY", "ST_MaxX", "ST_MaxY")):
            file.create_function(name, 1, lambda blob, n=n: shapely.from_wkb(blob[40:]).bounds[n])
        file.execute(statement, values)


def boxes(path: Path) -> dict[int, tuple[float, ...]]:
    with closing(sqlite3.connect(path)) as file:
        return {row[0]: row[1:] for row in file.execute('SELECT * FROM "rtree_odd ""name""_geom"')}


def test_the_spatial_index_is_true_and_stays_so(path: Path) -> None:
    for number, shape in enumerate(SHAPES, 1):
        west, south, east, north = shape.bounds
        assert boxes(path)[number] == pytest.approx((west, east, south, north), rel=1e-6)
    blob = sqlite3.connect(path).execute('SELECT geom FROM "odd ""name""" WHERE fid = 1').fetchone()[0]
    changed(path, 'UPDATE "odd ""name""" SET geom = ? WHERE fid = 2', blob)
    assert boxes(path)[2] == boxes(path)[1]
    changed(path, 'DELETE FROM "odd ""name""" WHERE fid = 2')
    changed(path, 'UPDATE "odd ""name""" SET geom = NULL WHERE fid = 3')
    assert set(boxes(path)) == {1}
    changed(path, 'INSERT INTO "odd ""name""" (geom) VALUES (?)', blob)
    assert len(boxes(path)) == 2 and read_features(path).geometries[1] is None


def test_what_is_written_comes_back(path: Path) -> None:
    table = read_features(path)
    assert [shape.equals(other) for shape, other in zip(table.geometries, SHAPES, strict=True)] == [True] * 3
    assert table.crs.code == 32626 and layers_of(path) == ['odd "name"']
    assert [row["name"] for row in table.rows()] == ["a; DROP", None, "c"]
    assert [row["height"] for row in table.rows()] == [3, 4.5, None]
    assert [row["wood"] for row in table.rows()] == [None, None, True]


def test_the_tables_are_those_of_the_standard(path: Path) -> None:
    """Clause 1.1 and 2.1: application id, version, the three CRS rows, contents, columns, blob header."""
    with closing(sqlite3.connect(path)) as file:
        assert file.execute("PRAGMA application_id").fetchone()[0] == 0x47504B47
        assert file.execute("PRAGMA user_version").fetchone()[0] == 10301
        assert file.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        assert file.execute("PRAGMA foreign_key_check").fetchall() == []
        ids = {row[0] for row in file.execute("SELECT srs_id FROM gpkg_spatial_ref_sys")}
        assert {-1, 0, 4326, 32626} == ids
        west, south, east, north, srs = file.execute(
            "SELECT min_x, min_y, max_x, max_y, srs_id FROM gpkg_contents WHERE data_type = 'features'"
        ).fetchone()
        assert [west, south, east, north] == shapely.total_bounds(list(SHAPES)).tolist() and srs == 32626
        assert file.execute("SELECT column_name, geometry_type_name, z, m FROM gpkg_geometry_columns").fetchone() == (
            "geom", "MULTIPOLYGON", 0, 0,
        )  # fmt: skip
        blob = file.execute('SELECT geom FROM "odd ""name"""').fetchone()[0]
    mark, version, flags, code = struct.unpack("<2sBBi", blob[:8])
    assert (mark, version, flags, code) == (b"GP", 0, 0b11, 32626)
    assert struct.unpack("<4d", blob[8:40]) == (730_000, 731_000, 5_097_000, 5_098_500)
    assert shapely.from_wkb(blob[40:]).equals(SHAPES[0])


@pytest.mark.parametrize("indicator, size", [(0, 0), (1, 32), (2, 48), (4, 64)])
def test_envelopes_of_any_kind_are_skipped(path: Path, indicator: int, size: int) -> None:
    blob = (
        struct.pack("<2sBBi", b"GP", 0, indicator << 1 | 1, 32626) + bytes(size) + shapely.to_wkb(SHAPES[2])
    )
    with closing(sqlite3.connect(path)) as file, file:
        bare(file)
        file.execute('UPDATE "odd ""name""" SET geom = ? WHERE fid = 1', (blob,))
    assert read_features(path).geometries[0].equals(SHAPES[2])


@pytest.mark.parametrize(
    "statement, word",
    [
        ('UPDATE "odd ""name""" SET geom = x\'00112233\'', "feature 1"),
        ('UPDATE "odd ""name""" SET geom = x\'4750000300\'', "feature 1"),
        ("DROP TABLE gpkg_geometry_columns", "gpkg_geometry_columns"),
        ("DELETE FROM gpkg_contents", "no features"),
        ('DROP TABLE "odd ""name"""', "table odd"),
    ],
)
def test_what_is_unsound_is_named(path: Path, statement: str, word: str) -> None:
    with closing(sqlite3.connect(path)) as file, file:
        bare(file)
        file.execute(statement)
    with pytest.raises(InputError) as caught:
        read_features(path)
    assert word in caught.value.what + caught.value.why


def test_other_files_are_no_geopackages(tmp_path: Path, path: Path) -> None:
    (tmp_path / "text.gpkg").write_text("not a database at all")
    (tmp_path / "cut.gpkg").write_bytes(path.read_bytes()[:3000])
    for name, word in (
        ("text.gpkg", "begins with"),
        ("cut.gpkg", "disk image is malformed"),
        ("none.gpkg", "no such file"),
    ):
        with pytest.raises(InputError) as caught:
            read_features(tmp_path / name)
        assert word in caught.value.why.lower()
    with pytest.raises(InputError, match="no layer 'odd'"):
        read_features(path, "odd")
