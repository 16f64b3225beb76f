"""What heights mean: compound CRSs, and the ways between vertical ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest

from zembrel.errors import InputError
from zembrel.geodesy.aid import Aid
from zembrel.geodesy.crs import ELLIPSOIDAL, GeographicCRS, ProjectedCRS, aided, label, vertical_of
from zembrel.geodesy.helmert import geocentric, geographic
from zembrel.geodesy.operation import CoordinateOperation, operation
from zembrel.geodesy.registry import by_code, parse_crs
from zembrel.grid.framefile import crs_text

FOOT, SURVEY_FOOT = 0.3048, 1200 / 3937


@dataclass(frozen=True)
class Slope:
    """A surface 50 m above the ellipsoid at Greenwich that rises by 1 m in every degree."""

    name: str = "slope.gtx"

    def __call__(self, lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
        return 50 + np.degrees(lon)


def raised(way: CoordinateOperation, x: float, y: float, z: float) -> float:
    one = [np.array([value]) for value in (x, y, z)]
    there = way.with_height(*one)
    np.testing.assert_allclose(
        way.heights_at(*there[:2], one[2]), there[2], atol=2e-3
    )  # x, y by another height
    back = way.inverse.with_height(*there)
    np.testing.assert_allclose([part[0] for part in back], [x, y, z], atol=1e-6)
    return float(there[2][0])


@pytest.mark.parametrize(
    "text, name, again",
    [
        (
            "EPSG:7405",
            "EPSG:27700 OSGB36 / British National Grid + EPSG:5701 ODN height",
            "EPSG:27700 + EPSG:5701",
        ),
        (
            "EPSG:32626 + EPSG:5773",
            "EPSG:32626 WGS 84 / UTM zone 26N + EPSG:5773 EGM96 height",
            "EPSG:32626 + EPSG:5773",
        ),
        (
            "WGS 84 / UTM zone 26N+EGM96 height",
            "EPSG:32626 WGS 84 / UTM zone 26N + EPSG:5773 EGM96 height",
            "EPSG:32626 + EPSG:5773",
        ),
        ("EPSG:4979", "EPSG:4326 WGS 84 + ellipsoidal height", "EPSG:4326 + ellipsoidal height"),
    ],
)
def test_a_compound_crs_is_its_horizontal_part_and_what_heights_mean(
    text: str, name: str, again: str
) -> None:
    crs = parse_crs(text)
    assert (label(crs), crs_text(crs)) == (name, again) and parse_crs(again) == crs


@pytest.mark.parametrize("text", ["EPSG:32626 + EPSG:4326", "EPSG:32626 + nothing"])
def test_after_a_plus_stands_a_vertical_crs(text: str) -> None:
    with pytest.raises(InputError):
        parse_crs(text)


def test_a_vertical_crs_alone_holds_no_place() -> None:
    with pytest.raises(InputError, match="cannot be computed"):
        operation(by_code(5773), by_code(4326))


def test_within_one_surface_unit_and_sense_change() -> None:
    metres, feet, depth = (parse_crs(f"EPSG:4326 + EPSG:{code}") for code in (5703, 6360, 6358))
    assert raised(operation(metres, feet), -100, 40, 1200) == pytest.approx(3937, abs=1e-9)
    assert vertical_of(depth).down  # type: ignore[union-attr]
    up = parse_crs("EPSG:4326 + EPSG:8228")  # NAVD88 height in international feet
    assert raised(operation(up, metres), -100, 40, 1000) == pytest.approx(304.8, abs=1e-9)


def test_a_depth_is_a_height_turned_over() -> None:
    height, depth = parse_crs("EPSG:4326 + EPSG:5705"), parse_crs("EPSG:4326 + EPSG:5612")
    assert raised(operation(height, depth), 30, 60, 7.5) == -7.5


def test_a_registered_offset_lies_between_two_surfaces() -> None:
    """Heights from the Black Sea's zero are 0.4 m larger than those from the Baltic's."""
    baltic, black_sea = parse_crs("EPSG:4326 + EPSG:5705"), parse_crs("EPSG:4326 + EPSG:5735")
    way = operation(baltic, black_sea)
    assert "by EPSG:5447, +0.4 m" in way.describe()
    assert raised(way, 42, 42, 10.0) == pytest.approx(10.4)


def test_a_registered_offset_may_be_an_inclined_plane() -> None:
    """The worked example of EPSG method 1046: 473.0 m in LN02 are 472.690 m in EVRF2000 at 47 20 N, 9 40 E."""
    way = operation(parse_crs("EPSG:4258 + EPSG:5728"), parse_crs("EPSG:4258 + EPSG:5730"), (9.5, 47.0))
    assert "EPSG:5431, about -0.245 m" in way.describe()
    assert raised(way, 9 + 40 / 60, 47 + 20 / 60, 473.0) == pytest.approx(472.690, abs=5e-4)


def test_a_height_grid_leads_from_the_ellipsoid_to_the_sea_and_back() -> None:
    sea = aided(parse_crs("EPSG:4326 + EPSG:5773"), Aid(separation=Slope()))
    assert raised(operation(by_code(4979), sea), -24, 46, 100) == pytest.approx(74)
    assert raised(operation(sea, by_code(4979)), -24, 46, 74) == pytest.approx(100)
    feet = aided(parse_crs("EPSG:32626 + EPSG:6360"), Aid(separation=Slope()))
    assert raised(operation(by_code(4979), feet), -24, 46, 100) == pytest.approx(74 / SURVEY_FOOT)


def test_a_datum_shift_changes_heights_above_the_ellipsoid() -> None:
    """Against the registry's three numbers for ED50 to WGS 84 in France, added to X, Y and Z."""
    way = operation(parse_crs("EPSG:4230 + ellipsoidal height"), by_code(4979), (2.5, 46.5))
    assert "EPSG:1275 " in way.describe() and way.shift is not None
    xyz = geocentric(way.shift.source.ellipsoid, *(np.array([v]) for v in (*np.radians([2.5, 46.5]), 28.02)))
    moved = (axis + by for axis, by in zip(xyz, (-84.0, -97.0, -117.0), strict=True))
    *_, height = geographic(way.shift.target.ellipsoid, *moved)
    assert raised(way, 2.5, 46.5, 28.02) == pytest.approx(float(height[0]), abs=1e-6)


def test_heights_above_the_sea_do_not_change_with_the_datum() -> None:
    assert (
        raised(operation(parse_crs("EPSG:4230 + EPSG:5773"), parse_crs("EPSG:4326 + EPSG:5773")), 2, 53, 12)
        == 12
    )


def test_where_no_way_is_known_heights_stay_and_strictness_refuses() -> None:
    way = operation(parse_crs("EPSG:4326 + EPSG:5773"), by_code(4979))
    assert (
        raised(way, -24, 46, 5) == 5
        and "no way known" in way.describe()
        and "--height-grid" in way.describe()
    )
    with pytest.raises(InputError, match="no way is known"):
        way.checked(strict=True)


@pytest.mark.parametrize("code", [4979, 7405, 5703])
def test_what_heights_mean_survives_the_dialect_of_prj_files(code: int) -> None:
    from zembrel.geodesy.text import read_crs, write_crs

    crs = by_code(code)
    back = read_crs(write_crs(crs, "prj"))
    assert vertical_of(back) == vertical_of(crs)
    assert isinstance(back, GeographicCRS | ProjectedCRS) or code == 5703


def test_ellipsoidal_heights_have_no_datum_of_their_own() -> None:
    assert ELLIPSOIDAL.datum is None and vertical_of(by_code(4326)) is None
