"""Statistics by name, and of zones: against NumPy, on numbers that repeat and numbers that are missing."""

from __future__ import annotations

import json
import math

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from program import Program
from rasters import frame, raster, save
from zembrel.deliver.chips.about import ChipTotals
from zembrel.deliver.chips.stores import Chip
from zembrel.errors import UsageError
from zembrel.expression.around import around
from zembrel.features.stats import NAMES, Stat, parse_stats, statistic
from zembrel.features.zonal import ZoneSums, ZoneValues, joined, ranked, zone_outlines
from zembrel.grid.pane import Pane
from zembrel.moments import Moments
from zembrel.raster.model import Block
from zembrel.statistics import STATISTICS, Gathered, Held

VALUES = np.array([3.0, 1.0, math.nan, 4.0, 1.0, 5.0, 9.0, math.nan, 1.0])
KNOWN = VALUES[~np.isnan(VALUES)]
EXPECTED = {
    "count": 9.0, "sum": 24.0, "mean": 24 / 7, "min": 1.0, "max": 9.0, "deviation": float(KNOWN.std()),
    "median": 3.0, "majority": 1.0,
}  # fmt: skip


@pytest.mark.parametrize("name", EXPECTED)
def test_a_statistic_is_that_of_the_numbers_that_are_known(name: str) -> None:
    assert statistic(Stat(name), VALUES) == pytest.approx(EXPECTED[name], rel=1e-12)


@pytest.mark.parametrize("share", [0.0, 0.1, 0.5, 0.9, 1.0])
def test_a_percentile_is_that_of_numpy(share: float) -> None:
    assert statistic(Stat("percentile", None, share), VALUES) == np.quantile(KNOWN, share)


@pytest.mark.parametrize("name", [*EXPECTED, "percentile"])
def test_of_nothing_there_is_a_count_alone(name: str) -> None:
    for none in (np.empty(0), np.full(3, np.nan)):
        found = statistic(Stat(name), none)
        assert found == none.size if name == "count" else math.isnan(found)


@pytest.mark.parametrize(
    ("texts", "stats", "labels"),
    [
        ((), [Stat("count")], ["count"]),
        (("mean:depth", "mean:depth"), [Stat("mean", "depth")], ["mean_depth"]),
        (("percentile:90", "percentile:2.5:x"), [Stat("percentile", None, 0.9), Stat("percentile", "x", 0.025)], ["p90", "p2.5_x"]),
        (("percentile:0", "percentile:100"), [Stat("percentile", None, 0.0), Stat("percentile", None, 1.0)], ["p0", "p100"]),
        (("quartiles:h",), [Stat("percentile", "h", part) for part in (0.25, 0.5, 0.75)], ["p25_h", "p50_h", "p75_h"]),
        (("median",), [Stat("median", None, 0.5)], ["median"]),
    ],
)  # fmt: skip
def test_names_are_read_in_their_order_each_once(
    texts: tuple[str, ...], stats: list[Stat], labels: list[str]
) -> None:
    found = parse_stats(texts)
    assert found == stats and [stat.label for stat in found] == labels


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("meen", ("there is no statistic 'meen'", "see zembrel tally --help", "did you mean mean?")),
        ("zzz", ("there is no statistic 'zzz'", "see zembrel tally --help", "known are " + ", ".join(sorted(NAMES)))),
        ("mean:a:b", ("--stat mean:a:b", "NAME or NAME:FIELD is needed", "write --stat mean:depth")),
        ("percentile:9:a:b", ("--stat percentile:9:a:b", "NAME or NAME:FIELD is needed", "write --stat mean:depth")),
        *((f"percentile{rest}", (f"--stat percentile{rest}", "a percentile has a rank from 0 to 100", "write --stat percentile:90"))
          for rest in ("", ":x", ":-1", ":100.5", ":nan")),
    ],
)  # fmt: skip
def test_what_is_no_statistic_is_told_in_three_lines(text: str, said: tuple[str, str, str]) -> None:
    with pytest.raises(UsageError) as caught:
        parse_stats((text,))
    assert (caught.value.what, caught.value.why, caught.value.remedy) == said


def zones() -> np.ndarray:
    """Two squares of whole cells side by side, one of half a cell more, and one beside the raster."""
    boxes = [(0, 0, 30, 40), (30, 0, 60, 40), (0, 0, 25, 20), (900, 900, 930, 940)]
    return np.array(
        [shapely.box(730_000 + w, 5_099_960 + s, 730_000 + e, 5_099_960 + n) for w, s, e, n in boxes], object
    )


CELLS = np.array([[1, 1, 2, 7, 7, 7], [1, 5, 2, 7, 8, 8], [3, 3, 3, 9, 9, 1], [4, 4, 0, 2, 2, 2]], np.float32)
VALID = CELLS != 0


def observed(observer: type) -> object:
    """What an observer notes of panes of two rows."""
    source = raster(CELLS, VALID, frame(6, 4))
    seen = observer(zone_outlines(zones(), source.frame), 4)
    for top in (0, 2):
        pane = Pane(top, 0, top + 2, 6)
        seen.note(seen.look(pane, source.cells(pane)))
    return seen


def weights_of(zone: int) -> tuple[np.ndarray, np.ndarray]:
    """The values of a zone and the shares of their cells inside, cell by cell."""
    found = []
    for row, column in np.argwhere(VALID):
        cell = shapely.box(
            730_000 + 10 * column, 5_100_000 - 10 * (row + 1), 730_010 + 10 * column, 5_100_000 - 10 * row
        )
        share = shapely.area(shapely.intersection(cell, zones()[zone])) / 100
        found += [(float(CELLS[row, column]), share)] if share > 0 else []
    values, weights = np.array(found).reshape(-1, 2).T
    return values, weights


@pytest.mark.parametrize("name", ["count", "sum", "mean", "min", "max", "deviation"])
def test_moments_of_zones_weigh_cells_by_the_share_that_is_inside(name: str) -> None:
    found = observed(ZoneSums).result(name)  # type: ignore[attr-defined]
    for zone in range(3):
        values, weights = weights_of(zone)
        mean = np.average(values, weights=weights)
        expected = {"count": weights.sum(), "sum": (values * weights).sum(), "mean": mean, "min": values.min(),
                    "max": values.max(), "deviation": math.sqrt(np.average((values - mean) ** 2, weights=weights))}[name]  # fmt: skip
        assert found[zone] == pytest.approx(expected, rel=1e-9, abs=1e-9)
    assert found[3] == 0 if name == "count" else math.isnan(found[3])


def test_values_of_zones_are_held_each_once_with_their_cells() -> None:
    seen = observed(ZoneValues)
    for zone in range(3):
        held = joined(seen.parts[zone])  # type: ignore[attr-defined]
        values, weights = weights_of(zone)
        kinds = np.unique(values)
        np.testing.assert_array_equal(held.values, kinds)
        np.testing.assert_allclose(held.weights, [weights[values == kind].sum() for kind in kinds], rtol=1e-6)
        assert held.most == kinds[np.argmax([weights[values == kind].sum() for kind in kinds])]
    none = joined(seen.parts[3])  # type: ignore[attr-defined]
    assert not none.values.size and math.isnan(none.most) and math.isnan(none.rank(0.5))


def test_ranks_majorities_and_shares_have_labels_of_their_own() -> None:
    one, other, none = (
        Held(np.array([1.0, 4.0]), np.array([3.0, 1.0])),
        Held(np.array([4.0]), np.array([2.0])),
        Held(np.empty(0), np.empty(0)),
    )
    found = ranked(
        [one, other, none],
        parse_stats(("majority", "median", "percentile:100", "histogram")),
        lambda v: f"c{v:g}",
    )
    assert list(found) == ["majority", "median", "p100", "share_c1", "share_c4"]
    np.testing.assert_array_equal(found["majority"], [1.0, 4.0, math.nan])
    np.testing.assert_array_equal(found["p100"], [4.0, 4.0, math.nan])
    np.testing.assert_array_equal(found["median"][1:], [4.0, math.nan])
    np.testing.assert_array_equal(found["share_c1"], [0.75, 0.0, 0.0])
    np.testing.assert_array_equal(found["share_c4"], [0.25, 1.0, 0.0])


WHOLE = st.lists(
    st.tuples(st.integers(-50, 50), st.integers(1, 40)), min_size=1, max_size=12, unique_by=lambda v: v[0]
)


@given(WHOLE, st.floats(0, 1))
def test_ranks_of_whole_cells_are_those_of_numpy_however_often_values_repeat(
    found: list[tuple[int, int]], share: float
) -> None:
    values, counts = np.array(sorted(found), float).T
    cells = np.repeat(values, counts.astype(int))
    assert Held(values, counts).rank(share) == pytest.approx(np.quantile(cells, share), abs=1e-9)
    occurring = Held(values, counts).occurring(share)
    assert (
        occurring == np.quantile(cells, share, method="inverted_cdf")
        or abs(share * cells.size - round(share * cells.size)) < 1e-6
    )


@given(WHOLE, st.floats(0, 1))
def test_ranks_of_parts_of_cells_are_means_over_one_cell(found: list[tuple[int, int]], share: float) -> None:
    """The sorted values as steps, each as wide as its cells, sampled finely between where the mean begins and ends."""
    values, counts = np.array(sorted(found), float).T
    weights = counts / 7
    wide = min(1.0, weights.sum())
    begin = share * (weights.sum() - wide)
    places = begin + (np.arange(20_000) + 0.5) / 20_000 * wide
    steps = values[np.minimum(np.searchsorted(np.cumsum(weights), places), values.size - 1)]
    assert Held(values, weights).rank(share) == pytest.approx(steps.mean(), abs=0.1)


@pytest.mark.parametrize("part", [slice(None), slice(0, 5)])
def test_a_median_of_cells_that_repeat_is_one_of_them(zembrel: Program, part: slice) -> None:
    """Sixty cells of 1 and forty of 10."""
    cells = np.where(np.arange(100).reshape(10, 10) < 60, 1, 10).astype(np.int16)
    save(zembrel.folder / "c.tif", raster(cells))
    west, south, east, north = frame(10, 10).bounds
    ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32626"}}
    zone = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
    (zembrel.folder / "z.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "crs": crs, "features": [zone]})
    )
    stats = ("--stat", "median", "--stat", "percentile:60", "--stat", "quartiles")
    zembrel("tally", "c.tif", "--zones", "z.geojson", *stats, "--out", "t.geojson")
    found = json.loads((zembrel.folder / "t.geojson").read_text())["features"][0]["properties"]
    assert found["median"] == 1 and found["p60"] == pytest.approx(np.quantile(cells, 0.6))
    assert (found["p25"], found["p50"], found["p75"]) == (1, 1, 10)


def test_the_median_of_codes_is_a_code() -> None:
    held = [Held(np.array([10.0, 40.0]), np.array([3.0, 3.0])), Held(np.empty(0), np.empty(0))]
    found = ranked(held, parse_stats(("median", "percentile:90")), str, codes=True)
    assert found["median"][0] == 10 and found["p90"][0] == 40 and np.isnan(found["median"][1])


@pytest.mark.parametrize("offset", [0.0, 5.1e6, 1.7e9, -1e12])
def test_deviations_do_not_cancel_at_large_offsets(offset: float) -> None:
    """Of zones in several panes, around cells, of chips and of whole rasters."""
    chance = np.random.default_rng(3)
    cells = np.round(chance.normal(0, 61, (40, 50)), 3) + offset
    where = frame(50, 40)
    outlines = zone_outlines(np.array([shapely.box(*where.bounds)], object), where)
    sums = ZoneSums(outlines, 1)
    for pane in where.pane.blocks(16, 16):
        sums.note(sums.look(pane, Block(cells[None, pane.top : pane.bottom, pane.left : pane.right])))
    exact = float(np.std(cells - offset))
    assert sums.result("deviation")[0] == pytest.approx(exact, rel=1e-4 if abs(offset) > 1e10 else 1e-7)
    near, _ = around("deviation", cells, None, 2)
    wanted = np.std((cells - offset)[8:13, 18:23])
    assert near[10, 20] == pytest.approx(wanted, rel=1e-4 if abs(offset) > 1e10 else 1e-6)
    totals = ChipTotals(1)
    for n in range(4):
        totals.add(Chip(n, "train", where, cells[None, 10 * n : 10 * n + 10], None))
    assert totals.facts(["a"])["bands"][0]["deviation"] == pytest.approx(
        exact, rel=1e-4 if abs(offset) > 1e10 else 1e-7
    )


def test_a_zone_of_less_than_a_cell_has_the_mean_of_what_it_holds_as_its_median() -> None:
    """One cell is more than all there is: every quantile is the weighted mean."""
    values, weights = np.array([0.0, 10.0, 40.0]), np.array([0.2, 0.3, 0.1])
    for share in (0.0, 0.5, 0.9):
        assert Held(values, weights).rank(share) == pytest.approx(np.average(values, weights=weights))
    assert Held(values, weights).occurring(1.0) == 40.0 and Held(values, weights).occurring(0.0) == 0.0


@pytest.mark.parametrize("name", [name for name, one in STATISTICS.items() if one.of_values])
def test_every_path_of_a_statistic_gives_the_same(name: str) -> None:
    """Plain numbers, what passes over parts of them gather, and the same numbers with weights."""
    chance, one = np.random.default_rng(6), STATISTICS[name]
    values = chance.integers(0, 9, 200).astype(float)
    due = {
        "count": values.size, "sum": values.sum(), "mean": values.mean(), "min": values.min(), "max": values.max(),
        "deviation": values.std(), "median": np.median(values), "percentile": np.percentile(values, 30),
        "majority": np.bincount(values.astype(int)).argmax(),
    }[name]  # fmt: skip
    share = 0.5 if name == "median" else 0.3
    assert one.of_values is not None and one.of_values(values, share) == pytest.approx(due)
    assert one.of_parts or one.of_held, "it is taken by points or zones, too"
    if one.of_parts:
        moments = Moments.of(values[:70]).plus(Moments.of(values[70:]))
        assert one.of_parts(Gathered(moments, values.min(), values.max())) == pytest.approx(due)
        empty = one.of_parts(
            Gathered(Moments(np.zeros(1), np.zeros(1), np.zeros(1)), np.array([np.inf]), np.array([-np.inf]))
        )
        assert empty[0] == 0 if name == "count" else np.isnan(empty[0])
    if one.of_held:
        kinds, counts = np.unique(values, return_counts=True)
        assert one.of_held(Held(kinds, counts.astype(float)), share) == pytest.approx(due)
