"""Statistics by name, and of zones: against NumPy, on numbers that repeat and numbers that are missing."""

from __future__ import annotations

import math

import numpy as np
import pytest
import shapely

from rasters import frame, raster
from zembrel.errors import UsageError
from zembrel.features.stats import NAMES, Stat, parse_stats, statistic
from zembrel.features.zonal import Held, ZoneSums, ZoneValues, joined, ranked, zone_outlines
from zembrel.grid.pane import Pane

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
