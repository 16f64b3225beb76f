"""Whole numbers of 64 bits stay what they are where nothing is computed, and end at the ends of their type."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st

import depth
from depth import examples
from program import Program
from rasters import frame, raster, save
from zembrel.raster.whole import rounded

ENDS = {"uint64": [10**19, 2**64 - 1, 2**53 + 1, 5], "int64": [2**63 - 1, -(2**63), 2**53 + 1, -5]}


@pytest.fixture(params=depth.some(list(ENDS), ["uint64"]))
def wide(request: pytest.FixtureRequest, zembrel: Program) -> list[int]:
    """Four fields of 16 cells each, of the values that are returned."""
    values = ENDS[request.param]
    cells = np.array(values, request.param).reshape(2, 2).repeat(4, 0).repeat(4, 1)
    save(zembrel.folder / "w.tif", raster(cells, where=frame(8, 8, cell=10.0)))
    return values


def made(zembrel: Program, *words: str) -> list[Any]:
    zembrel(*words, "--out", "o.tif", "--replace")
    return sorted(set(tifffile.imread(zembrel.folder / "o.tif").ravel().tolist()))


@pytest.mark.parametrize("words", [
    *(("resample", "w.tif", "--cell", "20", "--method", name) for name in ("mode", "min", "max", "median")),
    *(("mosaic", "w.tif", "w.tif", "--overlap", name) for name in ("first", "min", "max", "median")),
    *(("derive", "--let", "a=w.tif", "--formula", formula)
      for formula in ("a", "min(a, a)", "where(a == a, a, 3)")),
    ("clip", "w.tif", "--within", "730000,5099920,730080,5100000"),
])  # fmt: skip
def test_what_is_chosen_is_exact(zembrel: Program, wide: list[int], words: tuple[str, ...]) -> None:
    assert made(zembrel, *words) == sorted(wide)


def nearest_doubles(values: list[int]) -> set[int]:
    """What doubles make of whole numbers, and the ends of the type, which they do not hold."""
    return {int(float(value)) for value in values} | set(values)


@pytest.mark.parametrize("words", [
    ("resample", "w.tif", "--cell", "20", "--method", "mean"),
    ("mosaic", "w.tif", "w.tif", "--overlap", "mean"),
])  # fmt: skip
def test_means_of_equal_numbers_stay_in_their_type(
    zembrel: Program, wide: list[int], words: tuple[str, ...]
) -> None:
    found = made(zembrel, *words)
    assert len(found) == 4 and set(found) <= nearest_doubles(wide)


@pytest.mark.parametrize("method", ["bilinear", "cubic"])
def test_interpolation_ends_at_the_ends_of_the_type(zembrel: Program, wide: list[int], method: str) -> None:
    zembrel("resample", "w.tif", "--cell", "10.001", "--method", method, "--out", "o.tif")
    cells = tifffile.imread(zembrel.folder / "o.tif")
    assert set(cells[[1, 1, 6, 6], [1, 6, 1, 6]].tolist()) <= nearest_doubles(wide)


@pytest.mark.parametrize(("formula", "low", "kind"), [
    ("where(u > v, u, -1)", -1, "int16"), ("min(u, v)", 0, "uint8"), ("max(u, 300)", 300, "uint16"),
    ("abs(-u)", 0, "uint8"), ("-u", -255, "int16"), ("clamp(u, 3, 9)", 3, "uint8"),
])  # fmt: skip
def test_a_choice_of_whole_numbers_has_the_smallest_type(
    zembrel: Program, formula: str, low: int, kind: str
) -> None:
    u, v = np.arange(256, dtype=np.uint8).reshape(16, 16), np.full((16, 16), 7, np.uint8)
    for name, cells in (("u", u), ("v", v)):
        save(zembrel.folder / f"{name}.tif", raster(cells, where=frame(16, 16, cell=10.0)))
    zembrel("derive", "--let", "u=u.tif", "--let", "v=v.tif", "--formula", formula, "--out", "o.tif")
    cells = tifffile.imread(zembrel.folder / "o.tif")
    each = [
        eval(
            formula,
            {
                "u": int(a), "v": 7, "where": lambda condition, yes, no: yes if condition else no,
                "clamp": lambda value, least, most: min(max(value, least), most),
            },
        )
        for a in u.ravel()
    ]  # fmt: skip
    assert cells.dtype == kind and cells.ravel().tolist() == each and min(each) == low


def test_a_formula_that_computes_with_wide_numbers_says_that_it_rounds(zembrel: Program) -> None:
    save(zembrel.folder / "w.tif", raster(np.full((4, 4), 2**53 + 1), where=frame(4, 4, cell=10.0)))
    said = zembrel("derive", "--let", "a=w.tif", "--formula", "a + 1", "--out", "o.tif").err
    assert "rounded" in said
    assert (
        "rounded" not in zembrel("derive", "--let", "a=w.tif", "--formula", "max(a, 1)", "--out", "p.tif").err
    )
    assert "--round" in zembrel.refuses(4, "convert", "w.tif", "--type", "float64", "--out", "f.tif")[2]


@settings(max_examples=examples(200), deadline=None)
@given(
    st.floats(-1e20, 1e20) | st.sampled_from([0.5, -0.5, 2.0**52 + 1, 2.0**63, -(2.0**63), 4294967295.5]),
    st.sampled_from(["uint8", "int16", "uint32", "int32", "uint64", "int64"]),
    st.sampled_from(["float32", "float64"]),
)
def test_a_number_goes_to_the_nearest_of_its_type(value: float, kind: str, held: str) -> None:
    given, limits = np.array([value], held), np.iinfo(kind)
    exact = int(float(given[0]) // 1)
    nearest = exact + (float(given[0]) - exact >= 0.5)
    assert int(rounded(given, np.dtype(kind))[0]) == min(max(nearest, limits.min), limits.max)


@pytest.mark.parametrize("words", [
    ("derive", "--let", "a=r.tif", "--formula", "a * 1"), ("resample", "r.tif", "--cell", "20"),
    ("clip", "r.tif", "--within", "730000,5099920,730080,5100000"), ("mosaic", "r.tif"), ("convert", "r.tif"),
    ("mask", "r.tif", "--where", "value < 3"), ("fill", "r.tif", "--reach", "2"),
])  # fmt: skip
def test_every_verb_refuses_a_type_that_would_lose_values(zembrel: Program, words: tuple[str, ...]) -> None:
    """What is convert's rule is that of all verbs that take a type."""
    cells = np.linspace(0.25, 432.25, 64, dtype=np.float32).reshape(8, 8)
    save(zembrel.folder / "r.tif", raster(cells, where=frame(8, 8, cell=10.0)))
    told = zembrel.refuses(4, *words, "--type", "uint8", "--out", "o.tif")
    assert "outside" in told[0] and "--clamp" in told[2] and not (zembrel.folder / "o.tif").exists()
    assert "--round" in zembrel.refuses(4, *words, "--type", "int16", "--out", "o.tif")[2]
    allow: Callable[..., Any] = zembrel
    said = [allow(*words, "--type", "uint8", "--clamp", "--out", "o.tif"),
            allow(*words, "--type", "int16", "--round", "--out", "p.tif")]  # fmt: skip
    assert "held at the ends" in said[0].err and "rounded" in said[1].err
    assert statistics.fmean(tifffile.imread(zembrel.folder / "p.tif").ravel().tolist()) > 200
