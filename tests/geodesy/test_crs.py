"""CRSs by code, name and text, and the operations between them."""

from __future__ import annotations

import math

import numpy as np
import pytest

from zembrel.errors import InputError
from zembrel.geodesy.crs import UnresolvedCRS, same
from zembrel.geodesy.operation import ground_scale, operation
from zembrel.geodesy.registry import by_code, parse_crs
from zembrel.geodesy.text import read_crs, write_crs

CODES = (4326, 4269, 4258, 3857, 32601, 32660, 32701, 32760, 26901, 26923, 25828, 25837)


@pytest.mark.parametrize("code", CODES)
def test_written_text_reads_back_to_the_same_crs(code: int) -> None:
    crs = by_code(code)
    assert read_crs(write_crs(crs)) == crs
    assert parse_crs(crs.name.upper()) == crs
    assert parse_crs(f"epsg:{code}") == crs


def test_web_mercator_is_the_sphere_under_ellipsoidal_latitudes() -> None:
    lat = math.radians(46)
    x, y = by_code(3857).from_geographic(np.radians([-24.0]), np.array([lat]))
    assert x[0] == pytest.approx(6_378_137 * math.radians(-24), abs=1e-6)
    assert y[0] == pytest.approx(6_378_137 * math.log(math.tan(math.pi / 4 + lat / 2)), abs=1e-6)


@pytest.mark.parametrize("source, target", [(32626, 32627), (4326, 3857), (26910, 4326), (25832, 32632)])
def test_an_operation_and_its_inverse_cancel(source: int, target: int) -> None:
    there = operation(by_code(source), by_code(target))
    x, y = (np.array([-24.1]), np.array([46.2])) if source == 4326 else (np.array([512e3]), np.array([51e5]))
    back = there.inverse(*there(x, y))
    assert np.hypot(back[0] - x, back[1] - y)[0] < 1e-7


def test_a_datum_change_is_named_with_its_accuracy() -> None:
    assert "EPSG:1188" in operation(by_code(26910), by_code(32610)).describe()
    assert "4 m" in operation(by_code(26910), by_code(32610)).describe()
    assert operation(by_code(32626), by_code(32627)).describe() == "same datum"


def test_an_unknown_code_names_its_neighbours() -> None:
    with pytest.raises(InputError) as caught:
        by_code(32600 + 68)
    assert "EPSG:32667 WGS 84 / BLM 17N (ftUS)" in caught.value.remedy


def test_what_a_file_names_but_nobody_can_compute_is_kept_and_refused() -> None:
    strange = UnresolvedCRS("Marrowick harbour grid", code=99_999)
    assert same(strange, UnresolvedCRS("another spelling", code=99_999))
    assert not same(strange, by_code(32626))
    with pytest.raises(InputError, match="Marrowick harbour grid"):
        operation(strange, by_code(4326))


@pytest.mark.parametrize("code, x, y", [(32626, 732_000.0, 5_098_000.0), (3857, -2_672_000.0, 5_780_000.0)])
def test_ground_scale_is_metres_on_the_ellipsoid(code: int, x: float, y: float) -> None:
    """Web Mercator stretches by 1 / cos(latitude), to the flattening; UTM by its scale of about 1.0003."""
    across, along = ground_scale(by_code(code), x, y)
    expected = math.cos(math.radians(46.03)) if code == 3857 else 1 / 1.00026
    assert across == pytest.approx(expected, rel=4e-3)
    assert along == pytest.approx(expected, rel=4e-3)
