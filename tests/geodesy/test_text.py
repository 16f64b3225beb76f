"""CRSs as text: everything that is written reads back, and what others write is recognised."""

from __future__ import annotations

import json
import re

import numpy as np
import pytest

import depth
from zembrel.errors import InputError
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS, UnresolvedCRS, VerticalCRS, VerticalDatum, same
from zembrel.geodesy.registry import by_code, parse_crs, projected_codes
from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.text import read_crs, write_crs

KINDS = "'geographic 2D', 'geographic 3D', 'vertical', 'compound'"
FLAT = projected_codes() + [r["code"] for r in rows("SELECT code FROM crs WHERE kind = 'geographic 2D'")]
CODES = projected_codes() + [r["code"] for r in rows(f"SELECT code FROM crs WHERE kind IN ({KINDS})")]
MARKS = re.compile(r',(?:AUTHORITY\["EPSG","\d+"\]|ID\["EPSG",\d+\])')


STEPS = [("wkt1", 30), ("wkt2", 20), ("json", 30), ("wkt1", 1), ("wkt2", 1), ("json", 1)]


@pytest.mark.parametrize("form, step", depth.some(STEPS, STEPS[:3]))
def test_the_whole_registry_reads_back_equal(form: str, step: int) -> None:
    """Each so-many-th code, and in make deep every one."""
    for code in CODES[::step]:
        crs = by_code(code)
        if isinstance(crs, VerticalCRS) or not isinstance(crs, UnresolvedCRS):
            assert read_crs(write_crs(crs, form)) == crs


PLAIN = [("wkt1", 70), ("wkt2", 110), ("prj", 290), ("wkt1", 7), ("wkt2", 11), ("prj", 29)]


@pytest.mark.parametrize("form, step", depth.some(PLAIN, PLAIN[:3]))
def test_definitions_without_codes_are_recognised_by_their_parameters(form: str, step: int) -> None:
    for code in FLAT[::step]:
        crs = by_code(code)
        back = read_crs(MARKS.sub("", write_crs(crs, form)))
        assert back.code is not None and (same(back, crs) or _alike(back, crs)), crs.name


def _alike(one: object, other: object) -> bool:
    """Registered twice: the same datum, or a datum of the same name and figure."""
    assert isinstance(one, GeographicCRS | ProjectedCRS) and isinstance(other, GeographicCRS | ProjectedCRS)
    return one.datum.ellipsoid == other.datum.ellipsoid


FOREIGN = {
    32626: """PROJCS["WGS_1984_UTM_Zone_26N",GEOGCS["GCS_WGS_1984",DATUM["D_WGS_1984",SPHEROID["WGS_1984",6378137.0,
        298.257223563]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],
        PARAMETER["False_Easting",500000.0],PARAMETER["False_Northing",0.0],PARAMETER["Central_Meridian",-27.0],
        PARAMETER["Scale_Factor",0.9996],PARAMETER["Latitude_Of_Origin",0.0],UNIT["Meter",1.0]]""",
    2263: """PROJCS["NAD_1983_StatePlane_New_York_Long_Island_FIPS_3104_Feet",GEOGCS["GCS_North_American_1983",
        DATUM["D_North_American_1983",SPHEROID["GRS_1980",6378137.0,298.257222101]],PRIMEM["Greenwich",0.0],
        UNIT["Degree",0.0174532925199433]],PROJECTION["Lambert_Conformal_Conic"],PARAMETER["False_Easting",984250.0],
        PARAMETER["False_Northing",0.0],PARAMETER["Central_Meridian",-74.0],
        PARAMETER["Standard_Parallel_1",40.6666666666666667],PARAMETER["Standard_Parallel_2",41.0333333333333333],
        PARAMETER["Latitude_Of_Origin",40.1666666666666667],UNIT["Foot_US",0.3048006096012192]]""",
    3857: """PROJCS["WGS_1984_Web_Mercator_Auxiliary_Sphere",GEOGCS["GCS_WGS_1984",DATUM["D_WGS_1984",
        SPHEROID["WGS_1984",6378137.0,298.257223563]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]],
        PROJECTION["Mercator_Auxiliary_Sphere"],PARAMETER["False_Easting",0.0],PARAMETER["False_Northing",0.0],
        PARAMETER["Central_Meridian",0.0],PARAMETER["Standard_Parallel_1",0.0],
        PARAMETER["Auxiliary_Sphere_Type",0.0],UNIT["Meter",1.0]]""",
}  # fmt: skip


@pytest.mark.parametrize("code", FOREIGN)
def test_texts_of_other_dialects_are_recognised(code: int) -> None:
    found = read_crs(FOREIGN[code])
    assert same(found, by_code(code)) or found.code == code, found


def test_a_local_projection_works_without_the_registry_knowing_it() -> None:
    text = write_crs(by_code(32626)).replace("-27", "-24.5").replace('"32626"', '"0"')
    text = MARKS.sub("", text).replace("UTM zone 26N", "Marrowick grid")
    crs = read_crs(text)
    assert isinstance(crs, ProjectedCRS) and crs.code is None and crs.datum == by_code(4326).datum
    x, _ = crs.from_geographic(np.radians([-24.5]), np.radians([46.0]))
    assert x[0] == pytest.approx(500_000, abs=1e-6)
    assert read_crs(write_crs(crs)) == crs and read_crs(write_crs(crs, "wkt2")) == crs
    assert read_crs(write_crs(crs, "json")) == crs


def test_a_compound_crs_keeps_heights_that_the_registry_does_not_know() -> None:
    text = f'COMPD_CS["both",{write_crs(by_code(27700))},VERT_CS["height",VERT_DATUM["ground",2005],UNIT["metre",1]]]'
    found = read_crs(text)
    assert same(found, by_code(27700)) and found.vertical == VerticalCRS(
        "height", datum=VerticalDatum("ground")
    )


def test_an_unknown_method_stays_unresolved_with_its_name() -> None:
    text = MARKS.sub("", write_crs(by_code(32626))).replace("Transverse_Mercator", "Marrowick_Spiral")
    assert isinstance(read_crs(text), UnresolvedCRS)


@pytest.mark.parametrize(
    "text, word",
    [
        ('PROJCS["a"', "ends at position 11"), ('PROJCS["a"]]', "position 12"), ("", "position 1"),
        ('GEOGCS["a",%]', "position 12"), ('GEOGCS["a"]', "names no datum"), ("[" * 60, "position 1"),
        ('GEOGCS["a",DATUM["d",SPHEROID["s",-1,300]]]', "is no figure"), ('GEOGCS["a",DATUM["d",SPHEROID["s","x",1]]]', "no number"),
        ('GEOGCS["a",DATUM["d",SPHEROID["s",7,3]],UNIT["metre",1]]', "'metre' where an angle"),
        ('GEOGCRS["a",DATUM["d",ELLIPSOID["s",7,3]],LENGTHUNIT["metre",1]]', "'metre' where an angle"),
        ('VERT_CS["h",VERT_DATUM["g",2005],UNIT["degree",0.0174]]', "'degree' where a length"), ('VERT_CS["h"]', "no vertical datum"),
        ('VERTCS["h",VDATUM["g"],PARAMETER["Vertical_Shift",3],UNIT["Meter",1]]', "shifts its heights by 3"),
        ('GEOGCS["a",DATUM["d",SPHEROID["s",7,3]]],', "ends at position 42"),
        ("A[" * 80 + "1" + "]" * 80, "nested"), ("{}", "is not the JSON of a CRS"), ('{"type": 3', "is not the JSON"),
    ],
)  # fmt: skip
def test_malformed_text_is_refused_with_the_place(text: str, word: str) -> None:
    with pytest.raises(InputError) as caught:
        read_crs(text)
    assert word in caught.value.what + caught.value.why


def test_units_of_the_json_form_have_to_be_of_their_kind() -> None:
    for crs, unit in (("EPSG:4326", "metre"), ("EPSG:5773", "degree")):
        text = write_crs(parse_crs(crs), "json")
        wrong = re.sub(r'"unit": "(degree|metre)"', f'"unit": "{unit}"', text)
        with pytest.raises(InputError, match=f"'{unit}' where"):
            read_crs(wrong)


def test_a_parameter_that_would_go_unheeded_is_refused() -> None:
    text = MARKS.sub("", write_crs(by_code(32626))).replace("scale_factor", "twist")
    with pytest.raises(InputError, match="twist"):
        read_crs(text)


def test_the_json_form_is_plain_json_with_the_registrys_names() -> None:
    found = json.loads(write_crs(by_code(2154), "json"))
    assert found["type"] == "ProjectedCRS" and found["id"] == {"authority": "EPSG", "code": 2154}
    assert found["conversion"]["method"]["name"] == "Lambert Conic Conformal (2SP)"
