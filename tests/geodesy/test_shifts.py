"""Datum transformations against the worked examples of their methods (EPSG dataset, owned by IOGP)."""

from __future__ import annotations

import math

import numpy as np
import pytest

from rasters import frame
from zembrel.geodesy.ellipsoid import WGS_84, Ellipsoid
from zembrel.geodesy.helmert import geocentric, geographic, helmert
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.shifts import shift
from zembrel.grid.extent import carried_bounds

SECOND = math.radians(1 / 3600)
MILLI = SECOND / 1000


def moved(
    method: int, values: dict[int, float], point: tuple[float, ...], epoch: float | None = None
) -> np.ndarray:
    made = helmert(method, values, epoch)
    there = made.forward(np.array(point)[:, None])
    np.testing.assert_allclose(made.inverse(there)[:, 0], point, atol=1e-6)
    return there[:, 0]


def test_geographic_and_geocentric() -> None:
    lat, lon = math.radians(53 + 48 / 60 + 33.82 / 3600), math.radians(2 + 7 / 60 + 46.38 / 3600)
    xyz = geocentric(WGS_84, np.array([lon]), np.array([lat]), np.array([73.0]))
    assert [float(v[0]) for v in xyz] == pytest.approx([3_771_793.97, 140_253.34, 5_124_304.35], abs=0.01)
    back = geographic(WGS_84, *xyz)
    assert [float(v[0]) for v in back] == pytest.approx([lon, lat, 73.0], abs=1e-8)


def test_geocentric_translations() -> None:
    values = {8605: 84.87, 8606: 96.49, 8607: 116.95}
    xyz = moved(9603, values, (3_771_793.97, 140_253.34, 5_124_304.35))
    assert xyz == pytest.approx([3_771_878.84, 140_349.83, 5_124_421.30], abs=0.001)
    lon, lat, height = geographic(Ellipsoid("", 6_378_388.0, 297.0), *(v[None] for v in xyz))
    assert lat[0] / SECOND == pytest.approx((53 * 60 + 48) * 60 + 36.565, abs=0.001)
    assert lon[0] / SECOND == pytest.approx((2 * 60 + 7) * 60 + 51.477, abs=0.001)
    assert height[0] == pytest.approx(28.02, abs=0.01)


@pytest.mark.parametrize("method, sign", [(9606, 1), (9607, -1)])
def test_seven_parameters_in_both_conventions(method: int, sign: int) -> None:
    values = {8607: 4.5, 8610: sign * 0.554 * SECOND, 8611: 0.219e-6}
    xyz = moved(method, values, (3_657_660.66, 255_768.55, 5_201_382.11))
    assert xyz == pytest.approx([3_657_660.78, 255_778.43, 5_201_387.75], abs=0.01)


def test_molodensky_badekas() -> None:
    values = {
        8605: -270.933, 8606: 115.599, 8607: -360.226, 8608: -5.266 * SECOND, 8609: -1.238 * SECOND,
        8610: 2.381 * SECOND, 8611: -5.109e-6, 8617: 2_464_351.59, 8618: -5_783_466.61, 8667: 974_809.81,
    }  # fmt: skip
    xyz = moved(9636, values, (2_550_408.965, -5_749_912.266, 1_054_891.114))
    lon, lat, _ = geographic(Ellipsoid("", 6_378_137.0, 298.257222101), *(v[None] for v in xyz))
    assert lat[0] / SECOND == pytest.approx((9 * 60 + 34) * 60 + 49.001, abs=0.001)
    assert -lon[0] / SECOND == pytest.approx((66 * 60 + 4) * 60 + 54.705, abs=0.001)


@pytest.mark.parametrize("method, sign", [(1053, 1), (1056, -1)])
def test_parameters_that_change_with_time(method: int, sign: int) -> None:
    values = {
        8605: -0.08468, 8606: -0.01942, 8607: 0.03201, 1040: 0.00142, 1041: 0.00134, 1042: 0.00090,
        8608: sign * 0.4254 * MILLI, 8609: sign * -2.2578 * MILLI, 8610: sign * -2.4015 * MILLI,
        1043: sign * -1.5461 * MILLI, 1044: sign * -1.1820 * MILLI, 1045: sign * -1.1551 * MILLI,
        8611: 0.00971e-6, 1046: 0.000109e-6, 1047: 1994.0,
    }  # fmt: skip
    xyz = moved(method, values, (-3_789_470.710, 4_841_770.404, -1_690_893.952), 2013.9)
    assert xyz == pytest.approx([-3_789_470.004, 4_841_770.686, -1_690_895.108], abs=0.001)


def test_latitude_and_longitude_offsets() -> None:
    """Greek to GGRS87 by method 9619: 38 08 36.565 N, 23 48 16.235 E."""
    lat, lon = 38 + 8 / 60 + 36.565 / 3600, 23 + 48 / 60 + 16.235 / 3600
    there = operation(by_code(4120), by_code(4121))
    x, y = there(np.array([lon]), np.array([lat]))
    assert "EPSG:1891" in there.describe()
    assert [x[0] - lon, y[0] - lat] == pytest.approx([0.28 / 3600, -5.86 / 3600], abs=1e-12)


def test_the_operation_is_chosen_by_place_and_accuracy_and_says_so() -> None:
    assert operation(by_code(27700), by_code(32630)).describe().startswith("datum shift EPSG:1314 ")
    assert "would need its file as --shift-grid" in operation(by_code(27700), by_code(32630)).describe()
    texas, alaska = (
        operation(by_code(4267), by_code(4326), p).describe() for p in ((-99.0, 31.0), (-150.0, 65.0))
    )
    assert texas != alaska
    france = operation(by_code(27572), by_code(4326)).describe()
    assert france == "datum shift EPSG:8094 NTF (Paris) to WGS 84 (1), 2 m", "a registered chain of two steps"


def test_where_the_registry_knows_no_shift_that_is_said() -> None:
    moon_like = by_code(4047)  # an unspecified datum on the GRS 1980 authalic sphere
    assert "no shift known" in operation(moon_like, by_code(4326)).describe()


def test_an_ensemble_and_its_members_are_one() -> None:
    one, other = by_code(4326), by_code(9057)  # WGS 84 and WGS 84 (G1762)
    assert shift(one.datum, other.datum) is None


@pytest.mark.parametrize(
    "source, target", [(27700, 4326), (31300, 3812), (28992, 25831), (5514, 32633), (2154, 27572)]
)
def test_shifts_there_and_back_cancel(source: int, target: int) -> None:
    there = operation(by_code(source), by_code(target))
    where = carried_bounds(frame(100, 100, crs=by_code(32631), left=5e5, top=55e5), by_code(source))
    x, y = np.array([where[0]]), np.array([where[1]])
    back = there.inverse(*there(x, y))
    assert np.hypot(back[0] - x, back[1] - y)[0] < 5e-3, "but for the height, which two dimensions drop"
