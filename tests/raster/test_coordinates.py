"""Interpolated positions stay close to exact ones, everywhere."""

from __future__ import annotations

import numpy as np
import pytest

from rasters import frame
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.coordinates import CoordinateMap, reached

DEGREES = Frame(by_code(4326), Affine(-180, 85, 0.05, -0.05), 7200, 3400)
PAIRS = {
    "neighbouring zones": (Frame(by_code(32627), Affine(262_000, 5_104_000, 2, -2), 5000, 5000), frame(9000, 9000, 2.0)),
    "a continent from degrees": (Frame(by_code(32626), Affine(-3e6, 8e6, 2000, -2000), 3500, 4000), DEGREES),
    "web map from a zone": (Frame(by_code(3857), Affine(-2_676_000, 5_783_000, 5, -5), 4000, 4000), frame(9000, 9000, 3.0)),
    "a zone from the web map near the pole": (
        Frame(by_code(32633), Affine(2e5, 9.2e6, 100, -100), 6000, 3000),
        Frame(by_code(3857), Affine(-2e7, 2e7, 500, -500), 80_000, 80_000),
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", PAIRS)
def test_positions_are_exact_to_a_twentieth_of_a_cell(name: str) -> None:
    target, source = PAIRS[name]
    positions = CoordinateMap(target, source)
    numbers = np.random.default_rng(3)
    seen = 0
    for _ in range(12):
        top = int(numbers.integers(0, target.rows - 200))
        left = int(numbers.integers(0, target.columns - 200))
        pane = Pane(top, left, top + 200, left + 200)
        u, v = positions.lattice(pane).positions(pane)
        cols, rows = np.meshgrid(np.arange(left, left + 200.0), np.arange(top, top + 200.0))
        exact_u, exact_v = positions.exact(cols, rows)
        known = np.isfinite(exact_u) & np.isfinite(exact_v)
        np.testing.assert_array_equal(known, np.isfinite(u) & np.isfinite(v))
        inside = known & (exact_u > 0) & (exact_u < source.columns) & (exact_v > 0) & (exact_v < source.rows)
        seen += int(inside.sum())
        if inside.any():
            assert np.hypot(u - exact_u, v - exact_v)[inside].max() < 0.05
    assert seen > 50_000


def test_positions_belong_to_cells_not_to_panes() -> None:
    target, source = PAIRS["neighbouring zones"]
    positions = CoordinateMap(target, source)
    pane, inner = Pane(100, 90, 400, 410), Pane(217, 333, 260, 361)
    lattice = positions.lattice(pane)
    whole = lattice.positions(pane)
    for part in (positions.lattice(inner).positions(inner), lattice.positions(inner)):
        for axis in range(2):
            np.testing.assert_array_equal(part[axis], whole[axis][117:160, 243:271])


@pytest.mark.parametrize("name", PAIRS)
def test_what_a_pane_reaches_is_told_without_its_positions(name: str) -> None:
    target, source = PAIRS[name]
    pane = Pane(130, 170, 150, 193)
    lattice = CoordinateMap(target, source).lattice(pane)
    u, v = lattice.positions(pane)
    near = (u > -2) & (u < source.columns + 2) & (v > -3) & (v < source.rows + 3)
    wanted = lattice.reach(pane, (2, 3), source.pane)
    if near.all():
        assert wanted == reached(u, v, (2, 3)).meet(source.pane)
    elif near.any():
        assert wanted is not None and wanted.holds(reached(u[near], v[near], (2, 3)).meet(source.pane))
    else:
        assert wanted is None


def test_the_antimeridian_is_no_border() -> None:
    """A degree grid from 170 to 190 serves a zone that reaches over 180."""
    source = Frame(by_code(4326), Affine(170, -10, 0.01, -0.01), 2000, 1000)
    target = Frame(by_code(32701), Affine(100_000, 8_300_000, 1000, -1000), 300, 300)
    u, _ = CoordinateMap(target, source).lattice(target.pane).positions(target.pane)
    assert np.isfinite(u).all() and np.abs(np.diff(u, axis=1)).max() < 2 and (np.diff(u, axis=1) > 0).all()
