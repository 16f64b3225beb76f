"""Feature files: what is written opens in independent readers, and comes back with nothing lost unsaid."""

from __future__ import annotations

import csv
import json
import zipfile
from contextlib import suppress
from datetime import date
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
import pytest
import shapefile
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from lxml import etree

from depth import examples
from program import Program
from zembrel.errors import InputError, RefusedError, ZembrelError
from zembrel.facts import fact
from zembrel.features.files import holds_features, read_features, write_features
from zembrel.features.soundness import faults_of
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import same
from zembrel.geodesy.registry import by_code

AREA = shapely.box(730_000, 5_097_000, 731_000, 5_098_500).difference(
    shapely.box(730_100, 5_097_100, 730_200, 5_097_200)
)
LINE = shapely.LineString([(730_000, 5_097_000), (730_500, 5_097_300), (731_000, 5_097_000.25)])
ROWS = [
    {"name": 'Gull\'s "Skerry", <n & s>', "depth": 3, "slope": 0.1, "wet": True, "day": date(2026, 5, 1)},
    {"name": None, "depth": 2**53 + 1, "slope": None, "wet": False, "day": None},
    {"name": "Bräcken\nlinn", "depth": -7, "slope": -1e-5, "wet": None, "day": date(1999, 12, 31)},
]
KINDS = {
    "polygon": [AREA, None, shapely.MultiPolygon([AREA, shapely.box(0, 0, 1, 1)])],
    "line": [LINE, shapely.MultiLineString([LINE, [(0, 0), (1, 2)]]), LINE],
    "point": [shapely.Point(730_000.125, 5_097_000), shapely.Point(0, -1), shapely.Point(1, 1)],
    "height": [shapely.Point(1, 2, 3), shapely.Point(4, 5, 6.5), shapely.Point(7, 8, 9)],
    "mixed": [AREA, LINE, shapely.Point(1, 1)],
}
OWN_CRS = (".gpkg", ".parquet", ".shp", ".csv")


def table(kind: str) -> FeatureTable:
    return FeatureTable.of(KINDS[kind], ROWS, by_code(32626))


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("ending", [*OWN_CRS, ".geojson", ".geojsonl", ".ndjson", ".kml", ".kmz", ".tsv"])
def test_what_is_written_comes_back(tmp_path: Path, kind: str, ending: str) -> None:
    whole = table(kind)
    path = tmp_path / f"a{ending}"
    if kind == "mixed" and ending == ".shp":
        with pytest.raises(RefusedError, match="points, lines and polygons together"):
            write_features(path, whole, "a")
        return
    said = write_features(path, whole, "a")
    again = read_features(path)
    assert holds_features(path) and same(again.crs, by_code(32626 if ending in (*OWN_CRS, ".tsv") else 4326))
    back = again.to(by_code(32626)).geometries
    for one, other in zip(whole.geometries, back, strict=True):
        assert (one is None) == (other is None)
        if one is not None:
            assert shapely.hausdorff_distance(one, other) < (1e-9 if ending in OWN_CRS else 0.02)
            assert one.has_z == other.has_z and (not one.has_z or one.z == pytest.approx(other.z))
    for old, new in zip(whole.rows(), again.rows(), strict=True):
        kept = {name: value.isoformat() if isinstance(value, date) else value for name, value in old.items()}
        found = {name: value.isoformat() if isinstance(value, date) else value for name, value in new.items()}
        if ending in (".kml", ".kmz"):  # a line break within a name is white space
            assert found["depth"] == kept["depth"] and found.get("wet") == kept["wet"]
        else:
            assert {name: found.get(name) for name in kept} == kept, said


@given(
    st.lists(
        st.one_of(
            st.none(),
            st.integers(-(2**62), 2**62),
            st.floats(allow_nan=False, allow_infinity=False),  # of which GeoJSON has none
            st.text("äb\"',;\n`<&0 x", max_size=9),
            st.booleans(),
        ),
        min_size=1,
        max_size=5,
    )
)
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=examples(40))
def test_any_value_survives_a_geopackage_and_geojson(tmp_path: Path, values: list[Any]) -> None:
    whole = FeatureTable.of(
        [shapely.Point(n, 1) for n in range(len(values))], [{"v": v} for v in values], by_code(4326)
    )
    plain = all(isinstance(value, str | None) for value in values)
    for ending in (".geojson", *([".gpkg"] if plain else [])):
        path = tmp_path / f"a{ending}"
        path.unlink(missing_ok=True)
        write_features(path, whole, "a")
        rows = [row["v"] for row in read_features(path).rows()]
        assert rows == [row["v"] for row in whole.rows()]


def test_a_shapefile_opens_elsewhere_and_says_what_it_cannot_hold(tmp_path: Path) -> None:
    rows = [{"a long name": "x" * 300, "a long name too": 1e-20, "depth": 5}] * 2
    said = write_features(tmp_path / "s.shp", FeatureTable.of([AREA, AREA], rows, by_code(32626)), "s")
    assert fact("renamed", old="a long name too", new="a_long_na2") in said
    assert {fact("values_shortened", values=2, field=f"a long name{end}") for end in ("", " too")} < set(said)
    with shapefile.Reader(str(tmp_path / "s")) as reader:
        assert reader.shapeTypeName == "POLYGON" and len(reader) == 2
        outer, inner = (reader.shape(0).points[n : n + 5] for n in (0, 5))
        assert not shapely.LinearRing(outer).is_ccw and shapely.LinearRing(inner).is_ccw
        assert reader.record(0)[0] == "x" * 254
    assert (
        (tmp_path / "s.prj").read_text().startswith('PROJCS["WGS_1984_UTM_Zone_26N",GEOGCS["GCS_WGS_1984",')
    )


def test_texts_of_other_code_pages_and_missing_parts(tmp_path: Path) -> None:
    writer = shapefile.Writer(str(tmp_path / "o.shp"), shapeType=1, encoding="cp1252")
    writer.field("name", "C", 20)
    writer.point(1, 2)
    writer.record("Bräcken")
    writer.close()
    found = read_features(tmp_path / "o.shp")
    assert next(found.rows()) == {"name": "Bräcken"} and found.crs is None
    assert any("1252" in remark for remark in found.remarks) and any(
        ".prj" in remark for remark in found.remarks
    )
    (tmp_path / "o.cpg").write_text("OEM 850")
    assert next(read_features(tmp_path / "o.shp").rows()) == {"name": "Brõcken"}
    (tmp_path / "o.cpg").write_text("UTF-8")
    with pytest.raises(InputError, match="holds no utf-8"):
        read_features(tmp_path / "o.shp")
    (tmp_path / "o.cpg").write_text("gibberish")
    with pytest.raises(InputError, match="names 'gibberish'"):
        read_features(tmp_path / "o.shp")
    (tmp_path / "o.cpg").unlink()
    (tmp_path / "o.dbf").unlink()
    with pytest.raises(InputError, match="is missing"):
        read_features(tmp_path / "o.shp")


def test_geoparquet_by_the_standard(tmp_path: Path) -> None:
    write_features(tmp_path / "p.parquet", table("polygon"), "p")
    file = pq.ParquetFile(tmp_path / "p.parquet")
    geo = json.loads(file.metadata.metadata[b"geo"])
    facts = geo["columns"][geo["primary_column"]]
    assert geo["version"] == "1.1.0" and facts["encoding"] == "WKB"
    assert facts["geometry_types"] == ["MultiPolygon", "Polygon"]
    assert facts["crs"]["id"] == {"authority": "EPSG", "code": 32626}
    assert facts["bbox"] == pytest.approx(shapely.total_bounds(KINDS["polygon"]).tolist())
    read = file.read()
    assert shapely.from_wkb(read.column("geometry")[0].as_py()).equals(AREA)
    assert (
        read.column("depth").to_pylist() == [3, 2**53 + 1, -7]
        and str(read.schema.field("day").type) == "date32[day]"
    )


class Shown(HTMLParser):
    """What a viewer of HTML shows of a text, and the elements that it finds there."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.text, self.elements = "", list[str]()
        self.feed(text)
        self.close()

    def handle_data(self, data: str) -> None:
        self.text += data

    def handle_starttag(self, tag: str, attrs: object) -> None:
        self.elements.append(tag)


@pytest.mark.parametrize(
    "text", ["<img src=x onerror=alert(1)>", "a &lt; b & c &copy d", "</table><b>x", "AT&T <", 'say "&amp;"']
)
def test_viewers_of_kml_show_text_and_no_markup(zembrel: Program, text: str) -> None:
    fields = {"name": "n", "description": text, "note": text, text: "v"}
    point = {"type": "Feature", "properties": fields, "geometry": {"type": "Point", "coordinates": [-24, 46]}}
    (zembrel.folder / "p.geojson").write_text(json.dumps(point))
    zembrel("convert", "p.geojson", "--out", "p.kml")
    zembrel("deliver", "globe", "p.geojson", "--out", "g.kmz")
    with zipfile.ZipFile(zembrel.folder / "g.kmz") as packed:
        globe = packed.read("f0.kml")
    space = "{http://www.opengis.net/kml/2.2}"
    for document, values in (((zembrel.folder / "p.kml").read_bytes(), "SimpleData"), (globe, "value")):
        root = etree.fromstring(document)
        found = [
            Shown(node.text)
            for tag in ("description", values, "displayName")
            for node in root.iter(space + tag)
        ]
        assert not any(shown.elements for shown in found)
        assert {text} <= {shown.text for shown in found}
    zembrel("convert", "p.kml", "--out", "back.geojson")
    back = json.loads((zembrel.folder / "back.geojson").read_text())
    assert back["features"][0]["properties"] == fields


def test_markup_in_kml_of_others_stays_and_escapes_are_read(zembrel: Program) -> None:
    mark = "<Placemark><description>{}</description><Point><coordinates>1,2</coordinates></Point></Placemark>"
    marks = mark.format("<![CDATA[<b>high</b> &amp; dry]]>") + mark.format("high &amp;amp; dry")
    (zembrel.folder / "o.kml").write_text(
        f'<kml xmlns="http://www.opengis.net/kml/2.2"><Document>{marks}</Document></kml>'
    )
    zembrel("convert", "o.kml", "--out", "o.geojson")
    features = json.loads((zembrel.folder / "o.geojson").read_text())["features"]
    assert [f["properties"]["description"] for f in features] == ["<b>high</b> &amp; dry", "high & dry"]


def test_kml_obeys_its_schema(tmp_path: Path) -> None:
    import fastkml

    folder = Path(fastkml.__file__).parent / "schema"
    schema = etree.XMLSchema(etree.parse(str(folder / "ogckml22.xsd")))
    for kind in KINDS:
        write_features(tmp_path / f"{kind}.kml", table(kind), kind)
        schema.assertValid(etree.parse(str(tmp_path / f"{kind}.kml")))
    write_features(tmp_path / "k.kmz", table("line"), "k")
    with zipfile.ZipFile(tmp_path / "k.kmz") as packed:
        assert packed.namelist() == ["doc.kml"]
        schema.assertValid(etree.fromstring(packed.read("doc.kml")).getroottree())


def test_csv_of_any_separator_and_comma(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("Easting;Northing;code;depth;kind\n1,5;2,25;007;3,5;path\n;;012;;road\n")
    found = read_features(tmp_path / "a.csv")
    assert found.geometries[0] == shapely.Point(1.5, 2.25) and found.geometries[1] is None
    assert [row["code"] for row in found.rows()] == ["007", "012"]  # no number: zeros would go
    assert [row["depth"] for row in found.rows()] == [3.5, None]
    (tmp_path / "w.csv").write_text('wkt\tn\n"POINT (1 2)"\t5\n'.replace("\t", ","))
    assert read_features(tmp_path / "w.csv").geometries[0] == shapely.Point(1, 2)
    write_features(tmp_path / "o.csv", table("point"), "o")
    rows = list(csv.DictReader((tmp_path / "o.csv").open(newline="")))
    assert float(rows[0]["x"]) == 730_000.125 and rows[2]["name"] == "Bräcken\nlinn"


@pytest.mark.parametrize(
    "name, text, word",
    [
        ("a.csv", "wkt,n\nPOINT (1 2),5\nPOINT (1 2),6,7\n", "row 3"),
        ("a.csv", "wkt,n\nPOINT (1 2),5\nCIRCLE (1),6\n", "feature 2"),
        ("a.csv", "x,y,n\n1,2,a\nfar,3,b\n", "feature 2"),
        ("a.geojsonl", '{"type":"Feature","geometry":null,"properties":{}}\n{"type":\n', "record 2"),
        ("a.geojson", '{"type":"FeatureCollection","features":[{"type":"Feature","properties":[1]}]}', "feature 1"),
        ("a.geojson", '{"type":"Feature","geometry":{"type":"Polygon","coordinates":[[[0,0],[1,1]]]}}', "feature 1"),
        ("a.geojson", '{"type":"Feature","geometry":{"type":"Circle","coordinates":[0,0]}}', "feature 1"),
        ("a.kml", "<kml><Placemark><Point><coordinates>a,b</coordinates></Point></Placemark></kml>", "placemark 1"),
        ("a.kml", "<kml><Placemark>", "no sound KML"),
        ("a.kml", '<!DOCTYPE k [<!ENTITY e "x">]><kml>&e;</kml>', "no sound KML"),
        ("a.kmz", "PK\3\4", "no sound KML"),
        ("a.shp", "words", "is missing"),
        ("a.geoparquet", "words", "no sound GeoParquet"),
    ],
)  # fmt: skip
def test_what_is_unsound_is_named(tmp_path: Path, name: str, text: str, word: str) -> None:
    (tmp_path / name).write_text(text)
    with pytest.raises(InputError) as caught:
        read_features(tmp_path / name)
    assert word in caught.value.what + caught.value.why


@pytest.mark.parametrize(
    "ending", [".gpkg", ".shp", ".geojson", ".geojsonl", ".kml", ".kmz", ".csv", ".parquet"]
)
def test_nothing_but_a_clear_error_comes_of_damage(tmp_path: Path, ending: str) -> None:
    path, chance = tmp_path / f"a{ending}", np.random.default_rng(8)
    write_features(path, table("polygon"), "a")
    whole = {part: part.read_bytes() for part in tmp_path.iterdir()}
    for _ in range(60):
        part = list(whole)[chance.integers(len(whole))]
        data = bytearray(whole[part])
        for at in chance.integers(0, len(data), chance.integers(1, 9)):
            data[at] = chance.choice([0, 255, chance.integers(256)])
        part.write_bytes(data[: chance.integers(len(data) + 1)] if chance.random() < 0.3 else data)
        with suppress(ZembrelError):
            faults_of(read_features(path))
        part.write_bytes(whole[part])


def test_geometries_without_sense_are_read_to_be_named(tmp_path: Path) -> None:
    nested: Any = {"type": "Point", "coordinates": [1, 2]}
    for _ in range(10):
        nested = {"type": "GeometryCollection", "geometries": [nested]}
    point = {"type": "Point", "coordinates": [float("nan"), 2]}
    features = [{"type": "Feature", "properties": {}, "geometry": shape} for shape in (nested, point, None)]
    (tmp_path / "a.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    found = read_features(tmp_path / "a.geojson").geometries
    assert shapely.get_coordinates(found[0]).tolist() == [[1, 2]] and found[2] is None
    assert np.isnan(shapely.get_coordinates(found[1])[0, 0])
