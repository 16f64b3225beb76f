"""classify: codes are those of plain arrays, legends tell what they are, and nothing is lost unsaid."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy import ndimage

from rasters import frame, raster
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.opened.calls import call
from zembrel.raster.legend import Legend, LegendEntry

SHAPE = (57, 83)
NUMBERS = np.random.default_rng(2)
HEIGHTS = ndimage.gaussian_filter(NUMBERS.normal(0, 400, SHAPE), 3).astype(np.float32)
KNOWN = NUMBERS.random(SHAPE) > 0.15
LEGEND = Legend.of([LegendEntry(1, "wood", (0, 90, 0)), LegendEntry(3, "sea", (0, 0, 200))])
KINDS = NUMBERS.integers(0, 6, SHAPE).astype(np.uint8)


def classed(source: Any, **options: Any) -> tuple[Any, Any, Any]:
    """Codes, where they are valid, and the band."""
    view: Any = call("classify", source, **options)
    block = view.cells(view.frame.pane)
    return block.cells[0], block.valid_of(0), view.bands[0]


def heights() -> Any:
    return raster(HEIGHTS, KNOWN, unit="m")


def test_breaks_belong_to_the_class_above_and_classes_are_named_by_their_ends() -> None:
    cells = np.array([[-5, 0, 0.5, 10, 11]], np.float32)
    codes, _, band = classed(raster(cells, unit="m"), breaks="0,10")
    np.testing.assert_array_equal(codes, [[1, 2, 2, 3, 3]])
    assert [entry.name for entry in band.legend.entries] == ["under 0 m", "0 to 10 m", "10 m and over"]
    assert len({entry.colour for entry in band.legend.entries}) == 3 and (band.type, band.nodata) == (
        "uint8",
        0,
    )
    codes, known, _ = classed(heights(), breaks="-40,-3.5,0,80")
    np.testing.assert_array_equal(known, KNOWN)
    np.testing.assert_array_equal(codes[KNOWN], np.digitize(HEIGHTS, [-40, -3.5, 0, 80])[KNOWN] + 1)


def test_equal_and_quantile_classes_divide_the_range_and_the_cells() -> None:
    held = HEIGHTS[KNOWN].astype(float)
    codes, _, _ = classed(heights(), classes="equal:4")
    edges = np.linspace(held.min(), held.max(), 5)[1:-1]
    np.testing.assert_array_equal(codes[KNOWN], np.digitize(held, edges) + 1)
    codes, _, _ = classed(heights(), classes="quantile:5")
    counts = np.bincount(codes[KNOWN])[1:]
    assert counts.size == 5 and np.abs(counts - held.size / 5).max() <= 3


def test_natural_breaks_find_the_gaps_between_clusters() -> None:
    groups = NUMBERS.choice([0.0, 20.0, 25.0, 90.0], SHAPE) + NUMBERS.normal(0, 0.4, SHAPE)
    codes, _, _ = classed(raster(groups), classes="natural:4")
    np.testing.assert_array_equal(codes, np.digitize(groups, [10, 22.5, 50]) + 1)


def test_one_value_alone_is_not_divided() -> None:
    for way in ("equal:3", "quantile:3", "natural:3"):
        with pytest.raises(InputError, match="nothing to divide"):
            classed(raster(np.full((9, 9), 5.0)), classes=way)


def test_sixty_rules_of_long_conditions_are_followed() -> None:
    rules = tuple(f"{n + 1} c: value > {59 - n} and {'+'.join(['value'] * 40)} > -1e9" for n in range(60))
    codes, known, _ = classed(raster(np.arange(0.0, 61).reshape(1, 61)), rule=rules)
    assert codes[0, known[0]].tolist() == list(range(60, 0, -1)) and known[0].sum() == 60


def test_several_inputs_share_their_breaks() -> None:
    low, high = raster(HEIGHTS), raster(HEIGHTS + 500)
    views: Any = call("classify", [low, high], classes="equal:4")
    names = [[entry.name for entry in view.bands[0].legend.entries] for view in views]
    assert names[0] == names[1]
    assert views[0].cells(low.frame.pane).cells.max() < views[1].cells(low.frame.pane).cells.min() + 2


@pytest.mark.parametrize(
    "options, wanted",
    [
        ({"above": 12.5}, HEIGHTS > 12.5), ({"below": -3}, HEIGHTS < -3),
        ({"above": -10, "below": 10}, (HEIGHTS > -10) & (HEIGHTS < 10)), ({"above": float(HEIGHTS[4, 5])}, HEIGHTS[4, 5] < HEIGHTS),
    ],
)  # fmt: skip
def test_thresholds_are_0_and_1(options: Any, wanted: Any) -> None:
    codes, known, band = classed(heights(), **options)
    np.testing.assert_array_equal(codes[known], wanted[known])
    assert band.type == "uint8" and [entry.code for entry in band.legend.entries] == [0, 1]


def test_the_first_rule_that_holds_counts_over_layers_of_unlike_frames() -> None:
    coarse = raster(KINDS[:28, :41], where=frame(41, 28, 20.0), legend=LEGEND)
    rules = ("7 low wood: h < 20 and k == 'wood'", "high: h > 60", "3 sea: k in ('sea', 4)")
    codes, known, band = classed((), let={"h": heights(), "k": coarse}, rule=rules, method="nearest")
    kinds = np.zeros(SHAPE, np.uint8)
    kinds[:56, :82] = np.kron(KINDS[:28, :41], np.ones((2, 2), np.uint8))
    inside = np.zeros(SHAPE, bool)
    inside[:56, :82] = True
    wanted = np.select([(HEIGHTS < 20) & (kinds == 1), HEIGHTS > 60, np.isin(kinds, (3, 4))], [7, 1, 3], 0)
    np.testing.assert_array_equal(known[inside], (KNOWN & (wanted > 0))[inside])
    np.testing.assert_array_equal(codes[known & inside], wanted[known & inside])
    assert [(entry.code, entry.name) for entry in band.legend.entries] == [
        (1, "high"),
        (3, "sea"),
        (7, "low wood"),
    ]


def test_what_a_void_layer_leaves_open_is_void_and_what_it_does_not_is_not() -> None:
    slope, aspect = np.array([[1.0, 5, 5, 5]]), np.array([[0.0, 10, 200, 0]])
    layers = {"s": raster(slope), "a": raster(aspect, np.array([[False, True, True, False]]))}
    codes, known, _ = classed((), let=layers, rule=("still: a < 45 and s < 10 or s < 2",), otherwise="rest")
    assert known.tolist() == [[True, True, True, False]] and codes[known].tolist() == [1, 1, 2]


def test_codes_are_looked_up_and_the_rest_is_void_or_kept(tmp_path: Path) -> None:
    table = tmp_path / "t.csv"
    table.write_text("old;new;name;colour\n1-2;30;green;#00aa00\n3;-4;;\n5;31;;\n")
    source = raster(KINDS, legend=LEGEND)
    codes, known, band = classed(source, codes=str(table))
    wanted = np.select([np.isin(KINDS, (1, 2)), KINDS == 3, KINDS == 5], [30, -4, 31], 99)
    np.testing.assert_array_equal(known, wanted != 99)
    np.testing.assert_array_equal(codes[known], wanted[known])
    assert band.type == "int8" and {(e.code, e.name) for e in band.legend.entries} >= {
        (30, "green"),
        (31, ""),
    }
    codes, known, band = classed(source, codes=str(table), otherwise="keep")
    np.testing.assert_array_equal(codes, np.where(wanted == 99, KINDS, wanted))
    table.write_text("old,new\n1,4\n")
    with pytest.raises(RefusedError, match="code 4 is kept"):
        classed(source, codes=str(table), otherwise="keep")


@pytest.mark.parametrize("diagonal", [False, True])
def test_no_region_stays_smaller_than_asked(diagonal: bool) -> None:
    codes, known, _ = classed(heights(), breaks="-60,0,60", min_cells=12, diagonal=diagonal)
    np.testing.assert_array_equal(known, KNOWN)
    joined = np.ones((3, 3)) if diagonal else None
    islands, _ = ndimage.label(known, joined)
    for code in np.unique(codes[known]):
        regions, count = ndimage.label(known & (codes == code), joined)
        for number in range(1, count + 1):
            region = regions == number
            alone = (islands == islands[region][0]).sum() == region.sum()
            assert region.sum() >= 12 or alone, "or nothing known touches it"


@pytest.mark.parametrize(
    "options, what",
    [
        ({}, "nothing says which classes"), ({"breaks": "1", "above": 2.0}, "--breaks excludes"),
        ({"breaks": "2,1"}, "--breaks 2,1"), ({"breaks": "a"}, "--breaks a"), ({"classes": "even:3"}, "--classes even:3"),
        ({"classes": "equal:900"}, "--classes equal:900"), ({"rule": ("no colon",)}, "--rule 'no colon'"),
        ({"rule": ("1 a: value > 1", "1 b: value > 2")}, "one code"), ({"rule": ("a: value > q",)}, "names 'q' at character"),
        ({"rule": ("99999999999 a: value > 1",)}, "code 99999999999"), ({"above": float("nan")}, "is no number"),
        ({"rule": tuple(f"c{n}: value > {n}" for n in range(61))}, "61 rules"),
        ({"rule": ("a: value + 1",)}, "is no condition"), ({"above": 3.0, "below": 1.0}, "--above 3 --below 1"),
        ({"breaks": "1", "otherwise": "x"}, "--otherwise says nothing"), ({"breaks": "1", "min_cells": -1}, "--min-cells -1"),
        ({"breaks": "1", "ramp": "vidris"}, "no ramp"), ({"breaks": "1", "diagonal": True}, "--diagonal says nothing"),
    ],
)  # fmt: skip
def test_what_makes_no_classes_is_refused(options: Any, what: str) -> None:
    with pytest.raises(UsageError) as caught:
        classed(heights(), **options)
    assert what in caught.value.what


@pytest.mark.parametrize(
    "text, what",
    [
        ("", "no code table"), ("a,b\n1,2\n", "no code table"), ("old,new\n", "recodes nothing"), ("old,new\n1,x\n", "'x' is no code"),
        ("old,new\n1,2\n0-3,4\n", "twice what becomes of code"), ("old,new,tint\n1,2,3\n", "a column 'tint'"), ("old,new\n9-3,1\n", "9-3"),
        ("old,new\n1,99999999999999999999\n", "code 99999999999999999999"), ("old,new\n1,2,3\n", "more values than names"),
        ("old,new,name\n1,2," + "x" * 200_000, "no code table"), ("old,new,colour\n1,2,green\n", "'green' is no colour"), ("old,new\n1.5,2\n", "'1.5' is no code"),
    ],
)  # fmt: skip
def test_a_faulty_table_says_which_line(tmp_path: Path, text: str, what: str) -> None:
    (tmp_path / "t.csv").write_text(text)
    with pytest.raises(InputError, match=what):
        classed(raster(KINDS), codes=str(tmp_path / "t.csv"))
    with pytest.raises(InputError, match="code table for float32"):
        (tmp_path / "t.csv").write_text("old,new\n1,2\n")
        classed(heights(), codes=str(tmp_path / "t.csv"))
