"""Shapefiles of all kinds that another writer makes, and what it reads of ours."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import pytest
import shapefile
import shapely

from program import Program
from zembrel.errors import RefusedError
from zembrel.features.files import read_features, write_features
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code

OUTER = [[0, 0, 5, 1], [0, 10, 6, 2], [10, 10, 7, 3], [10, 0, 8, 4], [0, 0, 5, 1]]
HOLE = [[2, 2, 1, 5], [4, 2, 2, 6], [4, 4, 3, 7], [2, 4, 4, 8], [2, 2, 1, 5]]
LINE = [[0, 0, 1, 9], [5, 5, 2, 9], [0, 0, 3, 9]]  # passes one place twice, at two heights
KINDS: dict[int, tuple[str, Any]] = {
    1: ("point", OUTER[1]), 3: ("line", [LINE, OUTER[:3]]), 5: ("poly", [OUTER, HOLE]),
    8: ("multipoint", OUTER[1:4]), 11: ("pointz", OUTER[1]), 13: ("linez", [LINE, OUTER[:3]]),
    15: ("polyz", [OUTER, HOLE]), 18: ("multipointz", OUTER[1:4]), 21: ("pointm", OUTER[1]),
    23: ("linem", [LINE, OUTER[:3]]), 25: ("polym", [OUTER, HOLE]), 28: ("multipointm", OUTER[1:4]),
}  # fmt: skip


def pick(kind: int, content: Any) -> Any:
    """The numbers that a kind has of x, y, z and m."""
    if isinstance(content[0], list):
        return [pick(kind, inner) for inner in content]
    return content if 10 < kind < 20 else content[:2] + content[3:] if kind > 20 else content[:2]


def write(path: Path, kind: int, names: str = "x", **how: Any) -> None:
    name, content = KINDS[kind]
    with shapefile.Writer(path, shapeType=kind, **how) as file:
        file.field("name", "C", 20)
        content = pick(kind, content)
        getattr(file, name)(*content) if "point" in name and "multi" not in name else getattr(file, name)(
            content
        )
        file.record(names)


def places(content: Any) -> list[list[float]]:
    if isinstance(content[0], list):
        return [place for inner in content for place in places(inner)]
    return [content]


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_comes_as_it_is(tmp_path: Path, kind: int) -> None:
    write(tmp_path / "k.shp", kind)
    table = read_features(tmp_path / "k.shp")
    (geometry,) = table.geometries
    heights = 10 < kind < 20
    found = shapely.get_coordinates(geometry, include_z=heights).tolist()
    due = [place[: 3 if heights else 2] for place in places(KINDS[kind][1])]
    assert sorted(found) == sorted(due) and geometry.has_z == heights
    assert any("measures (M) of 1" in remark for remark in table.remarks) == (kind > 10)
    if kind % 10 == 5:
        assert geometry.area == 96
    write_features(tmp_path / "mine.shp", table, "mine")
    with shapefile.Reader(tmp_path / "mine.shp") as again:
        assert again.shapeType == (kind if kind < 20 else kind - 20)
        assert sorted(p[:2] for p in map(list, again.shape(0).points)) == sorted(p[:2] for p in due)
        assert not heights or sorted(again.shape(0).z) == sorted(p[2] for p in due)


def test_the_receipt_tells_of_measures(zembrel: Program) -> None:
    write(zembrel.folder / "m.shp", 13)
    said = zembrel("convert", "m.shp", "--from-crs", "EPSG:32626", "--out", "m.gpkg")
    assert "measures (M) of 1 features left out" in said.err
    assert all(g.has_z for g in read_features(zembrel.folder / "m.gpkg").geometries)


@pytest.mark.parametrize(
    ("language", "encoding"), [(0xC9, "cp1251"), (0x65, "cp866"), (0x02, "cp850"), (0xC8, "cp1250")]
)
def test_the_language_byte_tells_how_words_are_written(tmp_path: Path, language: int, encoding: str) -> None:
    word = "Грот" if encoding in ("cp1251", "cp866") else "Öd"
    write(tmp_path / "w.shp", 1, word, encoding=encoding)
    data = bytearray((tmp_path / "w.dbf").read_bytes())
    data[29] = language
    (tmp_path / "w.dbf").write_bytes(data)
    (tmp_path / "w.cpg").unlink(missing_ok=True)
    assert read_features(tmp_path / "w.shp").columns["name"].tolist() == [word]


def test_deleted_rows_take_their_shapes_along(tmp_path: Path) -> None:
    with shapefile.Writer(tmp_path / "d.shp", shapeType=1) as file:
        file.field("n", "N", 4, 0)
        for n in range(4):
            file.point(n, n)
            file.record(n)
    data = bytearray((tmp_path / "d.dbf").read_bytes())
    data[data.index(b"\r") + 1 + 5 * 2] = ord("*")
    (tmp_path / "d.dbf").write_bytes(data)
    table = read_features(tmp_path / "d.shp")
    assert table.columns["n"].tolist() == [0, 1, 3] == [g.x for g in table.geometries]
    assert "1 deleted features left out" in table.remarks


@pytest.mark.parametrize("ending", ["shp", "csv", "gpkg", "geojson", "parquet"])
def test_integers_of_64_bits_keep_every_digit(tmp_path: Path, ending: str) -> None:
    numbers = [2**63 - 1, -(2**63), 2**53 + 1, 1234567890123456789]
    places = [shapely.Point(n, n) for n in range(4)]
    table = FeatureTable.of(places, [{"n": n} for n in numbers], by_code(32626))
    write_features(tmp_path / f"i.{ending}", table, "i")
    assert read_features(tmp_path / f"i.{ending}").columns["n"].tolist() == numbers


@pytest.mark.parametrize("value", [1e300, -1e20, float("inf")])
def test_a_number_beyond_the_field_is_refused(tmp_path: Path, value: float) -> None:
    table = FeatureTable.of([shapely.Point(1, 2)], [{"v": value}], by_code(32626))
    with pytest.raises(RefusedError, match=r"cannot hold v = "):
        write_features(tmp_path / "f.shp", table, "f")


def test_texts_of_geometries_name_their_crs_and_columns_of_one_name_are_told_apart(tmp_path: Path) -> None:
    (tmp_path / "e.csv").write_text('wkt,a,a\n"SRID=32627;POINT (1 2)",1,2\n"SRID=32627;POINT (3 4)",5,6\n')
    table = read_features(tmp_path / "e.csv")
    assert table.crs is not None and table.crs.code == 32627
    assert [table.columns["a"].tolist(), table.columns["a_2"].tolist()] == [[1, 5], [2, 6]]
    assert "columns of one name are numbered: a_2" in table.remarks


@pytest.mark.parametrize("kind", [3, 5, 13, 15])
def test_a_place_that_is_not_a_number_is_a_fault_and_never_a_crash(zembrel: Program, kind: int) -> None:
    """The first x of the first part, 44 bytes into the record plus 4 for each of its parts, becomes NaN."""
    write(zembrel.folder / "k.shp", kind)
    data = bytearray((zembrel.folder / "k.shp").read_bytes())
    place = 100 + 8 + 44 + 4 * len(KINDS[kind][1])
    data[place : place + 8] = struct.pack("<d", float("nan"))
    (zembrel.folder / "k.shp").write_bytes(data)
    said = zembrel("check", "k.shp", code=None)
    if kind % 10 == 5:
        assert said.code == 3 and "makes no geometry" in said.err
    else:
        assert said.code == 1 and "FAULT" in said.out
