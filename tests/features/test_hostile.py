"""Feature files from anywhere: nothing in them ends the process, runs without end, or is overlooked."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import struct
import subprocess
import sys
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import shapely

from program import Program
from zembrel.errors import InputError
from zembrel.features.depth import DEEPEST, check_binary, check_texts
from zembrel.features.files import feature_parts

SQUARE = '{"type": "Feature", "properties": {"n": 1}, "geometry": {"type": "Polygon", "coordinates": [[[0, 0], [1, 0], [1, 1], [0, 0]]]}}'
FEATURES = f'{{"type": "FeatureCollection", "features": [{SQUARE}]}}'


def deep_binary(levels: int, order: str = "<", kind: int = 7) -> bytes:
    mark = 1 if order == "<" else 0
    body = struct.pack(f"{order}BIdd", mark, 1, 0.0, 0.0)
    return struct.pack(f"{order}BII", mark, kind, 1) * levels + body


@pytest.fixture
def files(zembrel: Program) -> Program:
    (zembrel.folder / "a.geojson").write_text(FEATURES)
    zembrel("convert", "a.geojson", "--out", "a.gpkg")
    return zembrel


def reads(program: Program, name: str, code: int = 3, out: str | None = "o.geojson") -> str:
    """What a process of its own says: it must not be ended by a signal."""
    done = subprocess.run(
        [sys.executable, "-m", "zembrel", "describe" if out is None else "convert", name, *(("--out", out, "--replace") if out else ())],
        cwd=program.folder, capture_output=True, text=True, timeout=120, check=False,
    )  # fmt: skip
    assert done.returncode == code, (done.returncode, done.stderr)
    return done.stderr


@pytest.mark.parametrize("form", ["gpkg", "csv", "geojson", "parquet", "kml"])
def test_geometries_in_geometries_do_not_end_the_process(files: Program, form: str) -> None:
    levels, name = 200_000, f"deep.{form}"
    path = files.folder / name
    if form == "gpkg":
        shutil.copyfile(files.folder / "a.gpkg", path)
        with sqlite3.connect(path) as file:
            head = struct.pack("<2sBBi", b"GP", 0, 1, 4326)
            for trigger in [
                row[0] for row in file.execute("SELECT name FROM sqlite_master WHERE type='trigger'")
            ]:
                file.execute(f'DROP TRIGGER "{trigger}"')
            file.execute("UPDATE a SET geom = ?", (head + deep_binary(levels),))
    elif form == "parquet":
        facts = {
            "version": "1.0.0",
            "primary_column": "g",
            "columns": {"g": {"encoding": "WKB", "geometry_types": []}},
        }
        table = pa.table({"g": [deep_binary(levels)]}).replace_schema_metadata({"geo": json.dumps(facts)})
        pq.write_table(table, path)
    elif form == "csv":
        path.write_text('n,wkt\n1,"' + "GEOMETRYCOLLECTION(" * levels + "POINT(0 0)" + ")" * levels + '"\n')
    elif form == "kml":
        nested = (
            "<MultiGeometry>" * levels
            + "<Point><coordinates>0,0</coordinates></Point>"
            + "</MultiGeometry>" * levels
        )
        path.write_text(f'<kml xmlns="http://www.opengis.net/kml/2.2"><Placemark>{nested}</Placemark></kml>')
    else:
        inner = '{"type": "GeometryCollection", "geometries": [' * levels + "]}" * levels
        path.write_text(f'{{"type": "Feature", "properties": {{}}, "geometry": {inner}}}')
    assert reads(files, name).startswith("error:")


def test_depth_is_counted_whatever_the_order_of_bytes_and_the_dimensions() -> None:
    for order in "<>":
        for kind in (4, 5, 6, 7, 1007, 2007, 3007, 0x80000007, 0xC0000006):
            check_binary(Path("a"), [None, deep_binary(DEEPEST - 2, order, kind)])
            with pytest.raises(InputError, match="feature 2 of a"):
                check_binary(Path("a"), [None, deep_binary(DEEPEST + 1, order, kind)])
    with pytest.raises(InputError, match="feature 1 of a"):
        check_texts(Path("a"), ["(" * 65 + ")" * 65])
    wide = shapely.MultiPolygon([shapely.box(n, 0, n + 0.5, 1) for n in range(3000)])
    check_binary(Path("a"), [wide.wkb, shapely.GeometryCollection([wide] * 20).wkb])
    check_texts(Path("a"), [wide.wkt, shapely.to_geojson(wide)])


def test_what_another_program_has_not_yet_put_into_the_file_is_read_or_refused(files: Program) -> None:
    path = files.folder / "live.gpkg"
    shutil.copyfile(files.folder / "a.gpkg", path)
    other = sqlite3.connect(path)
    other.execute("PRAGMA journal_mode = WAL")
    other.execute("PRAGMA wal_autocheckpoint = 0")
    for (trigger,) in other.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        other.execute(f'DROP TRIGGER "{trigger}"')
    other.execute("UPDATE a SET n = 77")
    other.commit()
    assert path.with_name("live.gpkg-wal").stat().st_size
    reads(files, "live.gpkg", code=0)
    assert '"n":77' in (files.folder / "o.geojson").read_text().replace(" ", "")
    other.close()


def with_view(files: Program, selected: str) -> Path:
    """A GeoPackage whose one layer is a view."""
    path = files.folder / "view.gpkg"
    shutil.copyfile(files.folder / "a.gpkg", path)
    with sqlite3.connect(path) as file:
        file.execute(f"CREATE VIEW v AS {selected}")
        file.execute("UPDATE gpkg_geometry_columns SET table_name = 'v'")
        file.execute("UPDATE gpkg_contents SET table_name = 'v'")
    return path


def test_a_view_that_comes_to_no_end_is_stopped(files: Program) -> None:
    path = with_view(
        files,
        "WITH RECURSIVE more(fid, geom, n) AS (SELECT 1, NULL, 1 UNION ALL SELECT fid + 1, NULL, n FROM more) "
        "SELECT max(fid) AS fid, geom, n FROM more",
    )
    assert "comes to no end" in reads(files, path.name)


@pytest.mark.parametrize("made_up", ["zeroblob(900000000)", "hex(zeroblob(300000000))"])
def test_a_view_cannot_make_up_values_longer_than_its_file(files: Program, made_up: str) -> None:
    path = with_view(files, f"SELECT 1 AS fid, NULL AS geom, {made_up} AS n")
    assert "a value that is too long" in reads(files, path.name)


def test_many_long_values_are_read_some_at_a_time(files: Program) -> None:
    path = with_view(
        files,
        "WITH RECURSIVE more(fid) AS (SELECT 1 UNION ALL SELECT fid + 1 FROM more WHERE fid < 400) "
        "SELECT fid, NULL AS geom, printf('%.*c', 500000, 'x') AS n FROM more",
    )
    sizes = [len(table) for table in feature_parts(path)]
    assert sum(sizes) == 400 and max(sizes) * 500_000 <= 64_500_000


@pytest.mark.skipif(os.name != "posix", reason="pipes and devices are of POSIX systems")
@pytest.mark.parametrize("name", ["pipe.geojson", "pipe.tif", "pipe.las", "pipe.csv"])
def test_a_pipe_or_device_is_no_input(files: Program, name: str) -> None:
    os.mkfifo(files.folder / name)
    assert "is a pipe" in reads(files, name, out=None)
