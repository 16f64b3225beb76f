"""GeoTIFF keys of every kind of CRS, with a code and without."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
import tifffile

from rasters import frame, random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS, vertical_of
from zembrel.geodesy.geokeys.userkeys import write_rows
from zembrel.geodesy.registry import by_code, parse_crs, projected_codes
from zembrel.geodesy.text import read_crs, write_crs

CODES = [
    4326,
    4807,
    4258,
    27700,
    2263,
    3035,
    3413,
    5514,
    2154,
    31300,
    28992,
    2048,
    6933,
    3395,
    27200,
    5530,
    2056,
]


@pytest.mark.parametrize("code", CODES)
def test_a_crs_with_a_code_comes_back(tmp_path: Path, code: int) -> None:
    where = frame(5, 4, crs=by_code(code), left=100.0, top=50.0)
    path = save(tmp_path / "c.tif", raster(random_cells(4, 5), where=where))
    assert open_raster(path).frame.crs == by_code(code)
    with tifffile.TiffFile(path) as file:
        keys = file.geotiff_metadata
        assert keys is not None
        found = keys.get("ProjectedCSTypeGeoKey") or keys.get("GeographicTypeGeoKey")
        assert int(found) == code


@pytest.mark.parametrize(
    "text", ["EPSG:7405", "EPSG:4979", "EPSG:32626 + ellipsoidal height", "EPSG:32626 + EPSG:6360"]
)
def test_what_heights_mean_comes_back(tmp_path: Path, text: str) -> None:
    where = frame(5, 4, crs=parse_crs(text), left=100.0, top=50.0)
    path = save(tmp_path / "c.tif", raster(random_cells(4, 5), where=where))
    assert open_raster(path).frame.crs == parse_crs(text)


def keyed(path: Path, *rows: tuple[int, int, int, int]) -> Path:
    """An image of EPSG:32626 whose key directory holds further rows; texts are `EGM96 height|`."""
    keys = [(1024, 0, 1, 1), (1025, 0, 1, 1), (3072, 0, 1, 32626), *rows]
    numbers = [1, 1, 0, len(keys), *(number for key in keys for number in key)]
    tags = [(33550, "d", 3, (10.0, 10.0, 0.0)), (33922, "d", 6, (0.0, 0.0, 0.0, 100.0, 50.0, 0.0))]
    tags += [(34735, "H", len(numbers), numbers), (34737, "s", 0, "EGM96 height|")]
    tifffile.imwrite(path, random_cells(4, 5), extratags=[(*tag, True) for tag in tags])
    return path


@pytest.mark.parametrize(
    "rows, heights",
    [
        ([(4096, 0, 1, 5773)], "EPSG:5773"),
        ([(4096, 0, 1, 5030)], "ellipsoidal height"),
        ([(4096, 0, 1, 5703), (4099, 0, 1, 9003)], "EPSG:6360"),
        ([(4096, 0, 1, 32767), (4098, 0, 1, 5171), (4099, 0, 1, 9001)], "EPSG:5773"),
        ([(4096, 0, 1, 11)], None),
        ([(4096, 34737, 13, 0)], None),
        ([(4096, 0, 1, 32767), (4098, 34737, 13, 0)], None),
    ],
)
def test_vertical_keys_of_others_are_understood_or_left(
    tmp_path: Path, rows: list[tuple[int, int, int, int]], heights: str | None
) -> None:
    crs = open_raster(keyed(tmp_path / "k.tif", *rows)).frame.crs
    assert vertical_of(crs) == (vertical_of(parse_crs(f"EPSG:32626 + {heights}")) if heights else None)


@pytest.mark.parametrize(
    "row",
    [(3072, 34737, 13, 0), (3072, 0, 1, 11), (2054, 0, 1, 12_345), (1024, 34737, 13, 0), (3076, 0, 1, 9102)],
)
def test_keys_that_make_no_sense_break_nothing(tmp_path: Path, row: tuple[int, int, int, int]) -> None:
    spelt = [(3072, 0, 1, 32767), (3075, 0, 1, 1), (2048, 0, 1, 4326), row]
    found = open_raster(keyed(tmp_path / "k.tif", *spelt))
    assert found.frame.columns == 5


def without_code(code: int) -> ProjectedCRS | GeographicCRS:
    """The same definition under a name and an origin of its own, which the registry does not know."""
    crs = by_code(code)
    if isinstance(crs, GeographicCRS):
        ellipsoid = replace(crs.datum.ellipsoid, name="Marrowick 1890", semi_major=6_377_900.0, code=None)
        return GeographicCRS(
            "Marrowick", replace(crs.datum, name="Marrowick", code=None, ellipsoid=ellipsoid), crs.unit
        )
    assert isinstance(crs, ProjectedCRS)
    moved = tuple((c, v + 7 if c in (8806, 8816, 8826) else v) for c, v in crs.conversion.parameters)
    conversion = replace(crs.conversion, parameters=moved, code=None, name="Marrowick grid")
    return ProjectedCRS("Marrowick grid", crs.base, conversion, crs.unit)


@pytest.mark.parametrize("code", CODES)
def test_a_crs_without_a_code_is_spelt_out_and_comes_back(tmp_path: Path, code: int) -> None:
    crs = without_code(code)
    where = frame(5, 4, crs=crs, left=100.0, top=50.0)
    found = open_raster(save(tmp_path / "u.tif", raster(random_cells(4, 5), where=where))).frame.crs
    assert isinstance(found, type(crs)) and found.code is None and found.name == crs.name
    assert found.datum.ellipsoid.semi_major == crs.datum.ellipsoid.semi_major
    if isinstance(crs, ProjectedCRS) and isinstance(found, ProjectedCRS):
        assert found.conversion.method == crs.conversion.method or {9810, 9829} >= {found.conversion.method}
        assert dict(found.conversion.parameters) == pytest.approx(dict(crs.conversion.parameters), abs=1e-8)


def test_most_methods_have_keys_and_the_others_carry_their_text() -> None:
    spelt = {by_code(c).conversion.method for c in projected_codes() if write_rows(by_code(c)) is not None}  # type: ignore[union-attr,arg-type]
    assert {9801, 9802, 9804, 9806, 9807, 9809, 9810, 9820, 9822} <= spelt
    crs = without_code(5514)
    assert write_rows(crs) is None and read_crs(write_crs(crs, "wkt2")) == crs
