"""Terrain: surfaces whose slopes, bends and shadows are known from their formulas."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from scipy import ndimage

from rasters import ArrayRaster, frame, random_cells, raster
from zembrel.errors import ZembrelError
from zembrel.geodesy.ellipsoid import WGS_84
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.opened.calls import call
from zembrel.raster.model import Block

SIDE = 41


def surface(of: Callable[[Any, Any], Any], where: Frame, valid: Any = None, unit: str = "m") -> ArrayRaster:
    """Heights, float64, by the coordinates of the middles of cells."""
    cols, rows = np.meshgrid(np.arange(where.columns, dtype=float), np.arange(where.rows, dtype=float))
    return raster(np.asarray(of(*where.centres(cols, rows)), np.float64), valid, where, unit=unit)


def made(source: ArrayRaster, *names: str, **options: Any) -> Block:
    view = call("terrain", source, of=names, **options)
    return view.cells(view.frame.pane)  # type: ignore[union-attr]


def holed(where: Frame) -> Any:
    """Voids, so that many cells have them beside them, and a lone cell in one."""
    valid = np.random.default_rng(4).random((where.rows, where.columns)) > 0.08
    valid[10:17, 10:17] = False
    valid[13, 13] = True
    return valid


FRAMES = {
    "metres": (frame(SIDE, SIDE), "m", 1.0, 1.0),
    "feet": (frame(SIDE, SIDE, crs=by_code(2225), left=6_000_000.0, top=2_000_000.0), "usft", 1.0, 1.0),
    "feet of metres": (frame(SIDE, SIDE), "ft", 1 / 0.3048, 1.0),
    "turned": (Frame(by_code(32626), Affine(730_000.0, 5_100_000.0, 6.0, 5.0, 4.0, -7.0), SIDE, SIDE), "m", 1.0, 1.0),
}  # fmt: skip


@pytest.mark.parametrize("name", FRAMES)
@pytest.mark.parametrize("void", [False, True])
@pytest.mark.parametrize("east, north", [(0.3, 0.0), (0.0, -0.2), (-0.7, 0.4), (2.0, 3.0)])
def test_a_plane_is_exact_to_its_edges_and_beside_voids(
    name: str, void: bool, east: float, north: float
) -> None:
    where, unit, factor, _ = FRAMES[name]
    x0, y0 = (float(v) for v in where.centres(0.0, 0.0))
    known = holed(where) if void else None
    source = surface(lambda x, y: factor * (east * (x - x0) + north * (y - y0)), where, known, unit)
    block = made(source, "slope", "aspect", "hillshade", "curvature")
    rise, facing = math.hypot(east, north), math.degrees(math.atan2(-east, -north)) % 360
    ok = block.valid_of(0)
    assert ok.all() if not void else not ok[13, 13] and (ok == known).sum() >= known.size - 30
    np.testing.assert_allclose(block.cells[0][ok], math.degrees(math.atan(rise)), rtol=2e-7)
    np.testing.assert_allclose((block.cells[1][ok] - facing + 180) % 360, 180, atol=5e-5)
    light = (1 - (east * -1 + north * 1) * math.sqrt(0.5)) * math.sqrt(0.5) / math.hypot(rise, 1)
    np.testing.assert_allclose(block.cells[2][ok], max(0, 255 * light), atol=1e-4)
    np.testing.assert_allclose(block.cells[3:][:, ok], 0, atol=1e-8)


@pytest.mark.parametrize("latitude", [0.0, 70.0])
def test_degrees_are_metres_on_the_ellipsoid_row_by_row(latitude: float) -> None:
    where = Frame(by_code(4326), Affine(-24.0, latitude + 0.2, 0.01, -0.01), SIDE, SIDE)
    source = surface(lambda lon, lat: 3000 * (lon + 24) + 5000 * (lat - latitude), where)
    got = made(source, "slope", in_="percent").cells[0]
    e2 = WGS_84.e2 if hasattr(WGS_84, "e2") else 0.0066943799901413165
    lat = np.radians(latitude + 0.2 - 0.01 * (np.arange(SIDE) + 0.5))
    w = np.sqrt(1 - e2 * np.sin(lat) ** 2)
    per_lon = np.radians(6_378_137.0 * np.cos(lat) / w)
    per_lat = np.radians(6_378_137.0 * (1 - e2) / w**3)
    want = 100 * np.hypot(3000 / per_lon, 5000 / per_lat)
    np.testing.assert_allclose(got, np.broadcast_to(want[:, None], got.shape), rtol=1e-6)


def test_a_map_that_stretches_lengths_shows_true_slopes() -> None:
    """The same hill in Web Mercator, where lengths are drawn 1.46 times as long at 47 degrees."""
    where = frame(SIDE, SIDE, 30.0, -2_670_000.0, 5_940_000.0, by_code(3857))
    source = surface(lambda x, y: 0.5 * (x + 2_670_000), where)
    lat = math.radians(46.98)
    stretch = 1 / math.cos(lat) * math.sqrt(1 - 0.00669438 * math.sin(lat) ** 2)
    got = made(source, "slope", in_="ratio").cells[0]
    np.testing.assert_allclose(got, 0.5 * stretch, rtol=2e-3)


HILL, WIDE = 900.0, 400.0


def gauss(x: Any, y: Any) -> Any:
    return HILL * np.exp(-((x - 731_000) ** 2 + (y - 5_099_000) ** 2) / (2 * WIDE**2))


def slope_of(x: Any, y: Any) -> Any:
    return gauss(x, y) * np.hypot(x - 731_000, y - 5_099_000) / WIDE**2


def test_a_hill_is_right_to_the_bias_of_the_stencil() -> None:
    """Differences over 2 h miss by h^2 / 6 of the third derivatives, averaged over three rows by h^2 / 4 more."""
    errors = []
    for cell in (10.0, 5.0):
        where = frame(int(2000 / cell), int(2000 / cell), cell)
        cols, rows = np.meshgrid(np.arange(where.columns), np.arange(where.rows))
        x, y = where.centres(cols.astype(float), rows.astype(float))
        gap = made(surface(gauss, where), "slope", in_="ratio").cells[0] - slope_of(x, y)
        errors.append(float(np.abs(gap[2:-2, 2:-2]).max()))
    assert errors[0] < 10.0**2 * (1 / 6 + 1 / 4) * 2 * HILL / WIDE**3
    assert errors[0] / errors[1] == pytest.approx(4, rel=0.02)


def test_a_cone_falls_alike_on_all_sides() -> None:
    where = frame(201, 201)
    source = surface(lambda x, y: 1000 - 0.4 * np.hypot(x - 731_005, y - 5_098_995), where)
    block = made(source, "slope", "aspect", in_="ratio")
    cols, rows = np.meshgrid(np.arange(201) - 100, 100 - np.arange(201))
    far = np.hypot(cols, rows) > 20
    np.testing.assert_allclose(block.cells[0][far], 0.4, rtol=1e-3)
    away = np.degrees(np.arctan2(cols, rows)) % 360
    assert (
        np.abs((block.cells[1] - away + 180) % 360 - 180)[far].max() < 0.15
    )  # the square of one cell in 20, in radians


def test_a_sphere_and_a_valley_bend_as_they_do() -> None:
    where = frame(81, 81)
    x0, y0 = 730_405.0, 5_099_595.0
    ball = surface(lambda x, y: np.sqrt(9000.0**2 - (x - x0) ** 2 - (y - y0) ** 2), where)
    block = made(ball, "curvature")
    away = np.hypot(*np.meshgrid(np.arange(81) - 40, np.arange(81) - 40))
    inner = (away > 3) & (away < 38)
    np.testing.assert_allclose(block.cells[2][inner], 1 / 9000, rtol=1e-4)
    np.testing.assert_allclose(block.cells[0][inner], 1 / 9000, rtol=1e-4)
    np.testing.assert_allclose((block.cells[1] * away * 10)[inner], 1, rtol=1e-4)  # circles around the top
    feet = surface(lambda x, y: np.sqrt(9000.0**2 - (x - x0) ** 2 - (y - y0) ** 2) / 0.3048, where, unit="ft")
    np.testing.assert_allclose(made(feet, "curvature:mean").cells[0][inner], 1 / 9000, rtol=1e-4)
    valley = surface(lambda x, y: (x - x0) ** 2 / 500, where)
    bent = made(valley, "curvature:profile").cells[0]
    slope = (np.arange(81) - 40) * 10 * 2 / 500
    want = -(2 / 500) / (1 + slope**2) ** 1.5
    np.testing.assert_allclose(bent[:, 1:40], np.broadcast_to(want, (81, 81))[:, 1:40], rtol=1e-5)


def test_unevenness_and_position_are_those_of_plain_windows() -> None:
    heights, known = random_cells(60, 70, kind="float32", seed=9), random_cells(60, 70, seed=2) > 25
    block = made(raster(heights, known, unit="m"), "roughness", "ruggedness", "position", reach="4")
    held = np.where(known, heights.astype(float), np.nan)

    def rugged(window: Any) -> float:
        off = (window - window[4])[np.arange(9) != 4]
        return float(np.sqrt(np.nansum(off**2) * 8 / max(np.isfinite(off).sum(), 1)))

    disc = np.hypot(*np.meshgrid(np.arange(-4, 5), np.arange(-4, 5))) <= 4
    want = (
        ndimage.generic_filter(held, lambda w: np.nanmax(w) - np.nanmin(w), 3, mode="constant", cval=np.nan),
        ndimage.generic_filter(held, rugged, 3, mode="constant", cval=np.nan),
        held - ndimage.generic_filter(held, np.nanmean, footprint=disc, mode="constant", cval=np.nan),
    )
    for band in range(3):
        np.testing.assert_array_equal(block.valid_of(band), known)
        np.testing.assert_allclose(block.cells[band][known], want[band][known], rtol=1e-5, atol=1e-3)


@pytest.mark.parametrize("offset", [0.0, 1.7e9, -4e12])
def test_position_is_held_in_doubles_whatever_heights_are_counted_from(offset: float) -> None:
    rough = np.random.default_rng(4).normal(0, 3, (40, 50))
    held = rough + offset
    block = made(raster(held, unit="m"), "position", reach="6")
    disc = np.hypot(*np.meshgrid(np.arange(-6, 7), np.arange(-6, 7))) <= 6
    means = ndimage.generic_filter(held - offset, np.nanmean, footprint=disc, mode="constant", cval=np.nan)
    np.testing.assert_allclose(
        block.cells[0], held - offset - means, rtol=1e-5, atol=2 * np.spacing(abs(offset))
    )


@pytest.mark.parametrize("azimuth", [90.0, 180.0, 270.0, 0.0, 135.0])
def test_a_wall_throws_a_shadow_as_long_as_the_sun_is_low(azimuth: float) -> None:
    heights = np.zeros((121, 121), np.float32)
    heights[60, 60] = 200.0
    view = call("terrain", raster(heights, unit="m"), of=("hillshade",), sun=(f"{azimuth},30",), cast=True)
    light = view.cells(view.frame.pane).cells[0]  # type: ignore[union-attr]
    down, across = np.cos(math.radians(azimuth)), -np.sin(math.radians(azimuth))
    long = 200 / math.tan(math.radians(30)) / 10 / max(abs(down), abs(across)) * max(abs(down), abs(across))
    steps = np.arange(2, 55)
    line = [light[round(60 + s * down), round(60 + s * across)] for s in steps]
    dark = np.array(line) < 64
    assert dark[steps < long - 1.5].all() and not dark[steps > long + 1.5].any()
    assert (np.delete(light.ravel(), 0) == 0).sum() < 200  # nothing else lies in shadow


def test_no_border_of_blocks_shows_and_no_night_is_lit() -> None:
    where = frame(90, 70)
    source = surface(
        lambda x, y: 40 * np.sin(x / 60) * np.cos(y / 45) + 0.1 * (x - 730_000), where, holed(where)
    )
    names = ("slope", "aspect", "hillshade", "curvature", "position", "roughness")
    view = call("terrain", source, of=names, reach="6", sun=("100,15", "200,40"), cast=True, true_north=True)
    whole = view.cells(where.pane)  # type: ignore[union-attr]
    for pane in [*where.pane.blocks(17, 23), Pane(3, 5, 4, 6)]:
        part, (rows, columns) = view.cells(pane), pane.within(where.pane)  # type: ignore[union-attr]
        for band in range(len(view.bands)):  # type: ignore[union-attr]
            known = part.valid_of(band)
            np.testing.assert_array_equal(known, whole.valid_of(band)[rows, columns])
            np.testing.assert_array_equal(part.cells[band][known], whole.cells[band][rows, columns][known])
    night = made(source, "hillshade", sun_at="2027-06-21T01:00Z")
    assert not night.cells.any()


def test_true_north_is_that_of_the_meridians() -> None:
    """A slope that falls along meridians faces true north, 2.2 degrees beside the grid's here."""
    where = frame(150, 150)
    utm = by_code(32626)
    source = surface(lambda x, y: -1e6 * utm.to_geographic(x.ravel(), y.ravel())[1].reshape(x.shape), where)  # type: ignore[union-attr]
    grid, true = (made(source, "aspect", true_north=north).cells[0] for north in (False, True))
    assert np.abs((true + 180) % 360 - 180).max() < 0.01
    assert 1.5 < np.abs((grid + 180) % 360 - 180).mean() < 3


@pytest.mark.parametrize("options, word", [
    ({}, "nothing to make"), ({"of": ("slop",)}, "--of slop"), ({"of": ("slope",), "in": "grads"}, "--in grads"),
    ({"of": ("slope",), "cast": True}, "--cast says nothing"), ({"of": ("position",)}, "no reach"),
    ({"of": ("position",), "reach": "0.1m"}, "--reach 0.1m"), ({"of": ("hillshade",), "sun": ("315",)}, "--sun 315"),
    ({"of": ("hillshade",), "sun_at": "2027-06-21"}, "--sun-at 2027-06-21"), ({"of": ("hillshade",), "hours": "6-20"}, "no day"),
    ({"of": ("hillshade",), "sun_at": "2027-06-21", "hours": "20-6"}, "--hours 20-6"),
    ({"of": ("curvature:steep",)}, "--of curvature:steep"), ({"of": ("slope",), "z_unit": "furlong"}, "furlong"),
])  # fmt: skip
def test_what_makes_no_sense_is_said(options: dict[str, Any], word: str) -> None:
    source = raster(random_cells(9, 9, kind="float32"), unit="m")
    with pytest.raises(ZembrelError) as said:
        call("terrain", source, **options)
    assert word in said.value.what


def test_colours_and_classes_are_no_heights() -> None:
    for source in (raster(random_cells(3, 9, 9)), raster(random_cells(9, 9, kind="float32"), unit="deg")):
        with pytest.raises(ZembrelError):
            call("terrain", source, of=("slope",))
