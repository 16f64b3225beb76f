"""Points onto cells: statistics against plain NumPy, triangles against SciPy's, and blocks that do not show."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from scipy import stats as scipy_stats
from scipy.interpolate import LinearNDInterpolator

from points.clouds import at, cloud
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.points.gridding.spool import Spool
from zembrel.points.gridding.statistic import bands_of, parse_statistic
from zembrel.points.gridding.surfaced import InverseDistance, Make, Products, Ranked, Surfaced, Triangles
from zembrel.points.gridding.tallied import Tallied, tally
from zembrel.points.model import PointBlock
from zembrel.raster.model import Band

X, Y = 730_000.0, 5_100_000.0
FRAME = Frame(None, Affine(X, Y + 100, 2.0, -2.0), 50, 50)


def spooled(block: PointBlock, make: Make, bands: int = 1, margin: float = 12.0, **more: object) -> Surfaced:
    spool = Spool.over(FRAME, margin, ["z", "intensity"], len(block))
    half = len(block) // 2
    for part in (block.take(slice(0, half)), block.take(slice(half, None))):
        spool.add(part, {name: part.values(name) for name in ("z", "intensity")})
    return Surfaced(spool, (Band("v", "float32"),) * bands, make, margin, **more)  # type: ignore[arg-type]


def reference(block: PointBlock, stat: str | Callable[..., float], value: str = "z") -> np.ndarray:
    """By SciPy; rows from the north, a point on an edge counts to the east and the south, as in rasters."""
    edges = [np.arange(51) * 2.0, np.arange(51) * 2.0]
    values = block.values(value)
    made, *_ = scipy_stats.binned_statistic_2d(100 - (block.y - Y), block.x - X, values, stat, bins=edges)
    return np.asarray(made)


@pytest.mark.parametrize("text", ("min", "max", "mean", "sum", "count", "mean:intensity", "max:intensity"))
def test_statistics_are_those_of_plain_arrays(text: str) -> None:
    block, wanted = cloud(9000, seed=3), parse_statistic(text)
    got = tally(iter([block.take(slice(0, 4000)), block.take(slice(4000, None))]), FRAME, [wanted], 4.0)[0]
    expected = reference(block, wanted.stat, wanted.value)
    if wanted.stat == "sum":
        expected[reference(block, "count") == 0] = np.nan
    inside = slice(0, 49)  # the last row takes its lower edge in SciPy
    np.testing.assert_allclose(got[inside, inside], expected[inside, inside], rtol=1e-12)
    ranks = spooled(block, Ranked((wanted,), 4.0), margin=0.0).cells(FRAME.pane)
    np.testing.assert_allclose(
        np.where(ranks.valid_of(0), ranks.cells[0], np.nan)[inside, inside],
        expected[inside, inside],
        rtol=1e-6,
    )


@pytest.mark.parametrize("share", (0, 10, 50, 90, 100))
def test_percentiles_are_those_of_numpy(share: int) -> None:
    block, wanted = cloud(20_000, seed=4), parse_statistic(f"percentile:{share}")
    got = spooled(block, Ranked((wanted,), 4.0), margin=0.0).cells(FRAME.pane)
    expected = reference(block, lambda v: float(np.percentile(v, share)) if len(v) else np.nan)
    np.testing.assert_allclose(got.cells[0][:49, :49], np.nan_to_num(expected)[:49, :49], rtol=1e-6)


def test_density_is_counted_on_the_ground_and_strips_do_not_show() -> None:
    block, wanted = (
        cloud(3000),
        (parse_statistic("density"), parse_statistic("mean"), parse_statistic("max:intensity")),
    )
    whole = Tallied(FRAME, wanted, lambda bounds: iter([block]), 4.0)
    strips = Tallied(FRAME, wanted, lambda bounds: iter([block]), 4.0, held=50 * 8 * 8 * 7)
    assert (
        strips.strip == 7
        and whole.strip == 50
        and [b.name for b in whole.bands] == ["density", "mean", "max_intensity"]
    )
    one, other = whole.cells(FRAME.pane), strips.cells(FRAME.pane)
    np.testing.assert_array_equal(one.cells, other.cells)
    assert one.cells[0].sum() * 4 == pytest.approx(np.count_nonzero((block.y > Y) & (block.x < X + 100)))


def test_triangles_are_the_interpolation_of_scipy() -> None:
    block = cloud(4000, seed=5)
    block.records["Z"] = (2000 * np.sin(block.records["X"] / 900)).astype(int)
    got = spooled(block, Triangles(6.0)).cells(FRAME.pane)
    rows, columns = np.mgrid[:50, :50]
    middles = np.column_stack((X + 2 * columns.ravel() + 1, Y + 100 - 2 * rows.ravel() - 1))
    places = np.column_stack((block.x, block.y)) - (
        X,
        Y,
    )  # far from zero its triangles are not quite Delaunay's
    expected = LinearNDInterpolator(places, block.z)(middles - (X, Y)).reshape(50, 50)
    both = got.valid_of(0) & np.isfinite(expected)
    assert both.mean() > 0.97
    np.testing.assert_allclose(got.cells[0][both], expected[both], atol=2e-3)


def test_voids_wider_than_the_reach_stay_void() -> None:
    block = cloud(6000, seed=6)
    away = np.hypot(block.x - X - 50, block.y - Y - 50)
    block = block.take(away > 20)
    for reach, bridged in ((5.0, False), (12.0, True)):  # cells of 2 m, a hole of 20 m radius
        valid = spooled(block, Triangles(reach), margin=2 * reach + 1).cells(FRAME.pane).valid_of(0)
        assert valid[25, 25] == bridged
        assert valid[3:47, 3:12].all(), "dense ground is covered"


@pytest.mark.parametrize("name", ("tin", "idw", "median", "spikes"))
def test_blocks_do_not_show(name: str) -> None:
    """Any split reads the same cells, and one block for all gives the same as many."""
    block = cloud(7000, seed=7)
    block = at(
        np.round((block.x - X) / 0.5) * 0.5, np.round((block.y - Y) / 0.5) * 0.5, block.z
    )  # a regular mesh: ties
    make = {
        "tin": Triangles(3.0),
        "idw": InverseDistance(3.0),
        "median": Ranked((parse_statistic("median"),), 4.0),
        "spikes": Triangles(3.0),
    }[name]
    more = {"spikes": (2.0, 15.0)} if name == "spikes" else {}
    spool = Spool.over(FRAME, 12.0, ["z", "intensity"], 10**9)
    assert spool.side < 64
    spool.add(block, {n: block.values(n) for n in ("z", "intensity")})
    small = Surfaced(spool, (Band("v", "float32"),), make, 12.0, **more)  # type: ignore[arg-type]
    big = spooled(block, make, **more)
    expected = big.cells(FRAME.pane)
    for pane in (FRAME.pane, Pane(0, 0, 17, 50), Pane(13, 29, 14, 30), Pane(30, 1, 50, 49)):
        got, rows, columns = small.cells(pane), slice(pane.top, pane.bottom), slice(pane.left, pane.right)
        np.testing.assert_array_equal(got.valid_of(0), expected.valid_of(0)[rows, columns])
        ok = got.valid_of(0)
        np.testing.assert_array_equal(got.cells[0][ok], expected.cells[0][rows, columns][ok])


def test_weighted_means_are_those_of_the_twelve_nearest() -> None:
    block = cloud(2000, seed=8)
    got = spooled(block, InverseDistance(4.0), margin=4.0).cells(FRAME.pane)
    for row, column in ((0, 0), (10, 20), (49, 49), (25, 31)):
        x, y = X + 2 * column + 1, Y + 100 - 2 * row - 1
        away = np.hypot(block.x - x, block.y - y) / 2
        near = np.argsort(away, kind="stable")[:12]
        near = near[away[near] < 4]
        expected = np.average(block.z[near], weights=1 / away[near] ** 2)
        assert got.cells[0, row, column] == pytest.approx(expected, rel=1e-5)


def test_spikes_are_left_out_of_a_surface() -> None:
    block = cloud(6000, seed=9)
    block.records["Z"] = 1000 + np.random.default_rng(1).integers(-5, 5, 6000)
    odd = np.arange(0, 6000, 100)
    block.records["Z"][odd] += 4000
    rough = spooled(block, Triangles(4.0)).cells(FRAME.pane)
    smooth = spooled(block, Triangles(4.0), spikes=(3.0, 2.0)).cells(FRAME.pane)
    assert rough.cells[0][rough.valid_of(0)].max() > 30
    ok = smooth.valid_of(0)
    assert ok.mean() > 0.95 and abs(smooth.cells[0][ok] - 10).max() < 0.1


def test_products_belong_together() -> None:
    gx, gy = (v.ravel() for v in np.meshgrid(np.arange(0.5, 100, 1.5), np.arange(0.5, 100, 1.5)))
    floor = at(gx, gy, 10 + gx / 10)
    tops = at(gx[::3], gy[::3], 10 + gx[::3] / 10 + 8)
    spool = Spool.over(FRAME, 12.0, ["z", "ground", "first"], len(floor) + len(tops))
    spool.add(floor, {"z": floor.z, "ground": np.ones(len(floor)), "first": np.ones(len(floor))})
    spool.add(tops, {"z": tops.z, "ground": np.zeros(len(tops)), "first": np.ones(len(tops))})
    names = ("terrain", "surface", "canopy")
    made = Surfaced(spool, tuple(Band(n, "float32") for n in names), Products(names, 5.0), 12.0).cells(
        FRAME.pane
    )
    inner = (slice(None), slice(3, 47), slice(3, 47))
    terrain, surface, canopy = made.cells[inner]
    columns = np.arange(3, 47)
    np.testing.assert_allclose(terrain, np.tile(10 + (2 * columns + 1) / 10, (44, 1)), atol=0.02)
    np.testing.assert_allclose(canopy, np.maximum(surface - terrain, 0), atol=1e-5)
    assert (canopy > 7).mean() > 0.5 and canopy.min() >= 0


def test_too_few_points_make_no_surface() -> None:
    for count in (0, 1, 2):
        assert not spooled(cloud(count), Triangles(5.0)).cells(FRAME.pane).valid_of(0).any()
    line = at(np.arange(40.0), np.arange(40.0), np.zeros(40))
    assert spooled(line, Triangles(5.0)).cells(FRAME.pane).valid_of(0).mean() < 0.1
    assert bands_of([parse_statistic("count")])[0].type == "uint32"
