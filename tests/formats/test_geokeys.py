"""GeoTIFF keys of every kind of CRS, with a code and without."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
import tifffile

from rasters import frame, random_cells, raster, save
from zembrel.formats import open_raster
from zembrel.formats.tiff.userkeys import write_rows
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS
from zembrel.geodesy.registry import by_code, projected_codes
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
