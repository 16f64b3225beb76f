"""The whole registry: every projected CRS resolves, comes back, and is what its method promises."""

from __future__ import annotations

import math
import sqlite3
from collections import defaultdict
from pathlib import Path

import numpy as np
import pytest

import depth
import zembrel.geodesy
from zembrel.errors import InputError
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS, UnresolvedCRS
from zembrel.geodesy.geodesic import between, destination
from zembrel.geodesy.registry import by_code, by_name, covering, entry, find, projected_codes
from zembrel.geodesy.units import sexagesimal, value_in_base

CONFORMAL = {
    9801, 9802, 9803, 1051, 1102, 9807, 9808, 9809, 9810, 9829, 9830, 9812, 9815, 9826, 9804, 9805, 1111, 9819, 1041,
}  # fmt: skip
EQUAL_AREA = {9822, 9820, 9835, 1078, 9828}
CODES = projected_codes()


def by_method(most: int) -> list[int]:
    """Up to `most` CRSs of every method, spread over the registry."""
    groups: dict[int, list[int]] = defaultdict(list)
    for code in CODES:
        groups[projected(code).conversion.method].append(code)
    return [c for codes in groups.values() for c in codes[:: max(1, len(codes) // most)][:most]]


def projected(code: int) -> ProjectedCRS:
    crs = by_code(code)
    assert isinstance(crs, ProjectedCRS)
    return crs


def lattice(code: int, side: int = 7) -> tuple[np.ndarray, np.ndarray]:
    """Longitudes and latitudes, radians, of a lattice over the area of use."""
    found = entry(code)
    assert found is not None
    west, south, east, north = found.bounds
    east += 360 if west > east else 0
    lon, lat = np.meshgrid(np.linspace(west, east, side), np.linspace(south, north, side))
    return np.radians(lon), np.radians(lat)


@pytest.mark.parametrize("step", depth.some([5, 1], [5]))
def test_all_projected_crss_resolve_and_come_back_within_a_tenth_of_a_millimetre(step: int) -> None:
    assert len(CODES) == 5403
    for code in CODES[::step]:
        lon, lat = lattice(code)
        crs = projected(code)
        back = crs.to_geographic(*crs.from_geographic(lon, lat))
        away = np.mod(back[0] - lon + math.pi, math.tau) - math.pi
        metres = np.hypot(away * np.cos(lat), back[1] - lat) * 6_378_137
        assert metres.max() < 1e-4, crs.name


def derivatives(crs: ProjectedCRS, lon: np.ndarray, lat: np.ndarray) -> tuple[np.ndarray, ...]:
    """Metres in the plane per metre on the ground along the parallel and along the meridian."""
    step = 1e-6
    ellipsoid = crs.datum.ellipsoid
    parallel, meridian = ellipsoid.parallel_radius(lat), ellipsoid.meridian_radius(lat)
    ends = [
        crs.from_geographic(lon + a * step, lat + b * step) for a, b in ((1, 0), (-1, 0), (0, 1), (0, -1))
    ]
    factor = crs.unit.factor / (2 * step)
    (x1, y1), (x2, y2), (x3, y3), (x4, y4) = ends
    return (
        (x1 - x2) * factor / parallel, (y1 - y2) * factor / parallel,
        (x3 - x4) * factor / meridian, (y3 - y4) * factor / meridian,
    )  # fmt: skip


@pytest.mark.parametrize(
    "code", [c for c in by_method(12) if projected(c).conversion.method in CONFORMAL | EQUAL_AREA]
)
def test_conformal_methods_keep_angles_and_equal_area_ones_areas(code: int) -> None:
    crs = projected(code)
    lon, lat = (part[1:-1, 1:-1] for part in lattice(code))
    if np.abs(lat).max() > math.radians(89):
        lat = np.clip(lat, math.radians(-89), math.radians(89))
    xe, ye, xn, yn = derivatives(crs, lon, lat)
    area = xe * yn - xn * ye
    if crs.conversion.method in EQUAL_AREA:
        np.testing.assert_allclose(area, 1, atol=3e-7)
    else:
        size = np.hypot(xe, ye)
        np.testing.assert_allclose(np.hypot(xn, yn) / size, 1, atol=3e-7)
        np.testing.assert_allclose((xe * xn + ye * yn) / size**2, 0, atol=3e-7)
        assert (area > 0).all(), "x points right and y up in every CRS"


@pytest.mark.parametrize(
    "code", [c for c in by_method(6) if projected(c).conversion.method not in (1024, 9824, 1028, 9816)]
)
def test_a_geodesic_of_a_kilometre_measures_a_kilometre_in_the_middle(code: int) -> None:
    """Within the scale that a map of that width has, and 3.5 % (Europe's cone serves the Canaries, too)."""
    crs = projected(code)
    lon, lat = (part[3:4, 3] for part in lattice(code))
    found = entry(code)
    assert found is not None
    width = math.radians(
        found.bounds[3] - found.bounds[1] + ((found.bounds[2] - found.bounds[0]) % 360) * math.cos(lat[0])
    )
    if width > 1:
        return
    for azimuth in np.radians([20.0, 110.0]):
        end = destination(crs.datum.ellipsoid, lon, lat, np.array([azimuth]), np.array([1000.0]))
        (x0, y0), (x1, y1) = crs.from_geographic(lon, lat), crs.from_geographic(*end)
        metres = np.hypot(x1 - x0, y1 - y0)[0] * crs.unit.factor
        assert metres == pytest.approx(1000, rel=0.035 + width**2 / 8)


def test_geodesics_lead_there_and_back() -> None:
    ellipsoid = projected(32626).datum.ellipsoid
    numbers = np.random.default_rng(5)
    lon, lat = numbers.uniform(-3, 3, 500), numbers.uniform(-1.5, 1.5, 500)
    azimuth, metres = numbers.uniform(-3, 3, 500), numbers.uniform(1, 1.8e7, 500)
    end = destination(ellipsoid, lon, lat, azimuth, metres)
    found = between(ellipsoid, lon, lat, *end)
    np.testing.assert_allclose(found[0], metres, atol=1e-3)
    np.testing.assert_allclose(np.sin(found[1] - azimuth), 0, atol=1e-9)


def test_the_file_is_small_complete_and_carries_its_terms() -> None:
    folder = Path(zembrel.geodesy.__path__[0])
    assert (folder / "registry.sqlite").stat().st_size < 4_000_000
    assert "IOGP" in (folder / "EPSG-TERMS-OF-USE.md").read_text()
    made = sqlite3.connect(folder / "registry.sqlite")
    assert made.execute("SELECT version FROM about").fetchone() == ("12.057",)
    assert made.execute("SELECT count(*) FROM crs").fetchone() == (8267,)


def test_deprecated_crss_resolve_and_name_what_replaces_them() -> None:
    found = entry(2036)
    assert found is not None and found.deprecated and found.replaced_by == 2953
    assert isinstance(by_code(2036), ProjectedCRS)


def test_meridians_units_and_directions_are_the_crss_own() -> None:
    paris = by_code(4807)
    assert isinstance(paris, GeographicCRS) and paris.unit.name == "grad"
    lon, lat = paris.to_geographic(np.array([0.0]), np.array([52.0]))
    assert np.degrees([lon[0], lat[0]]) == pytest.approx([2.33722917, 46.8], abs=1e-8)
    feet = projected(2263)
    assert feet.unit.factor == pytest.approx(1200 / 3937, rel=1e-15)
    south = projected(2048)  # Hartebeesthoek94 / Lo19: westings and southings are registered
    assert south.axes == ("west", "south")
    x, y = south.from_geographic(np.radians([19.5]), np.radians([-33.0]))
    assert x[0] > 0 > y[0], "inside, x points right and y up"


def test_sexagesimal_values_are_taken_from_their_text() -> None:
    assert sexagesimal(24.5) == 24 + 50 / 60
    assert sexagesimal(-38.26) == -(38 + 26 / 60)
    assert sexagesimal(49.503) == pytest.approx(49 + 50 / 60 + 30 / 3600, abs=1e-12)
    assert value_in_base(100, 9105) == pytest.approx(math.pi / 2, abs=1e-15)


def test_names_areas_and_near_misses() -> None:
    assert by_name("nad83 / utm zone 10n") == by_code(26910)
    assert by_name("Anguilla 1957 / BWI Grid") == by_code(2000), "an alias"
    assert 27700 in [e.code for e in find("British National Grid")]
    assert find("UTM zone 26N WGS 84")[0].code == 32626
    here = [e.code for e in covering(-24.0, 46.0)]
    assert 32626 in here and 27700 not in here
    assert 32701 in [e.code for e in covering(-179.0, -17.0)]
    with pytest.raises(InputError) as caught:
        by_name("WGS 84 / UTM zone 26M")
    assert caught.value.remedy.startswith("did you mean WGS 84 / UTM zone")
    assert isinstance(by_code(5806), UnresolvedCRS), (
        "an engineering CRS has a name, and no place on the Earth"
    )
