"""derive: formulas on cells are those of plain arrays, void by the stated rule, alike in any block."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage

from rasters import ArrayRaster, frame, random_cells, raster
from zembrel.algebra.indices import indices, roles
from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.grid.pane import Pane
from zembrel.opened.calls import call
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band

SHAPE = (43, 61)
NUMBERS = np.random.default_rng(8)
A, B, C = (NUMBERS.normal(2, 3, SHAPE) for _ in range(3))
A[3, 4], B[5, 6], B[30, 2] = 0, 0, 0
KIND = NUMBERS.integers(0, 4, SHAPE).astype(np.uint8)
OK_A, OK_B = NUMBERS.random(SHAPE) > 0.2, NUMBERS.random(SHAPE) > 0.3
PLAIN = {"sqrt": np.sqrt, "log": np.log, "exp": np.exp, "abs": np.abs, "where": np.where, "min": np.minimum,
         "max": np.maximum, "hypot": np.hypot, "floor": np.floor, "atan2": np.arctan2}  # fmt: skip


def layers(kind: str = "float64", voids: bool = True) -> dict[str, ArrayRaster]:
    held = {"a": (A, OK_A if voids else None), "b": (B, OK_B if voids else None), "c": (C, None)}
    made = {name: raster(cells.astype(kind), valid) for name, (cells, valid) in held.items()}
    legend = Legend.of([LegendEntry(1, "wood", (0, 90, 0)), LegendEntry(3, "sea", (0, 0, 200))])
    return made | {"k": raster(KIND, legend=legend)}


def derived(*formulas: str, let: Any = None, pane: Pane | None = None, **options: Any) -> tuple[Any, Any]:
    view: Any = call("derive", let=let or layers(), formula=formulas, **options)
    block = view.cells(pane or view.frame.pane)
    return block.cells[0], block.valid_of(0)


@st.composite
def formulas(draw: Any, depth: int = 4) -> str:
    if depth == 0 or draw(st.integers(0, 3)) == 0:
        return draw(st.sampled_from(["a", "b", "c", "k", "2", "0.5", "7"]))
    one, other = draw(formulas(depth=depth - 1)), draw(formulas(depth=depth - 1))
    shape = draw(st.sampled_from(["({0} + {1})", "({0} - {1})", "({0} * {1})", "({0} / {1})", "-{0}", "sqrt({0})",
                                  "min({0}, {1})", "max({0}, {1})", "abs({0})", "({0})**2", "hypot({0}, {1})",
                                  "where({0} > {1}, {1}, {0})", "floor({0})", "exp(-abs({0}))", "atan2({0}, {1})"]))  # fmt: skip
    return shape.format(one, other)


class Strict(np.ndarray[Any, Any]):
    """An array that becomes NaN, and stays so, wherever a step gives no finite number."""

    def __array_ufunc__(self, ufunc: Any, method: str, *inputs: Any, **rest: Any) -> Any:
        plain = [np.asarray(value) for value in inputs]
        made = np.asarray(getattr(ufunc, method)(*plain, **rest))
        if made.dtype.kind == "f":
            spoilt = np.zeros(made.shape, bool)
            for value in plain:
                spoilt |= np.isnan(value)
            made = np.where(spoilt | ~np.isfinite(made), np.nan, made)
        return made.view(Strict)


@given(formulas())
def test_numbers_are_those_of_plain_arrays_and_void_where_a_step_gives_none(text: str) -> None:
    whole = KIND.astype(np.int64)  # whose zero has no sign, which atan2 would tell
    names = {name: values.view(Strict) for name, values in zip("abck", (A, B, C, whole), strict=True)}
    with np.errstate(all="ignore"):
        strict = {
            **PLAIN,
            "where": lambda c, y, n: np.where(np.asarray(c), np.asarray(y), np.asarray(n)).view(Strict),
        }
        wanted = np.broadcast_to(np.asarray(eval(text, strict, names)), SHAPE).astype(float)
    if not any(name in text.replace("sqrt", "").replace("abs", "").replace("atan", "") for name in "abck"):
        return
    try:
        found, known = derived(text, let=layers(voids=False))
    except UsageError as exc:  # a part without names that is no number
        assert "no finite number" in exc.why
        return
    # a branch or comparison that saw NaN is void by the rule, which plain arrays do not tell
    if "where" not in text:
        np.testing.assert_array_equal(known, np.isfinite(wanted))
    np.testing.assert_allclose(found[known], wanted[known], rtol=1e-12 if found.dtype == float else 2e-7)


@pytest.mark.parametrize(
    "text, values, known",
    [
        ("a + b", A + B, OK_A & OK_B),
        ("where(valid(a), a, b)", np.where(OK_A, A, B), OK_A | OK_B),
        ("where(c > 2, a, 7)", np.where(C > 2, A, 7), OK_A | (C <= 2)),
        ("valid(a) and not valid(b)", OK_A & ~OK_B, np.ones(SHAPE, bool)),
        ("k == 'wood' or k in ('sea', 0)", np.isin(KIND, (0, 1, 3)), np.ones(SHAPE, bool)),
        ("1 < k <= 3", KIND > 1, np.ones(SHAPE, bool)),
        ("1 / (c / (k - 2))", (KIND - 2.0) / C, KIND != 2),
        ("a / b", A / np.where(B == 0, 1, B), OK_A & OK_B & (B != 0)),
        (
            "a > 2 or b > 2",
            (OK_A & (A > 2)) | (OK_B & (B > 2)),
            (OK_A & OK_B) | (OK_A & (A > 2)) | (OK_B & (B > 2)),
        ),
        (
            "a > 2 and b > 2 and c > 0",
            (A > 2) & (B > 2) & (C > 0),
            (OK_A & OK_B) | (OK_A & (A <= 2)) | (OK_B & (B <= 2)) | (C <= 0),
        ),
        ("valid(a) and a > 2", OK_A & (A > 2), np.ones(SHAPE, bool)),
        ("min(a, 1 / b)", np.minimum(A, 1 / np.where(B == 0, 1, B)), OK_A & OK_B & (B != 0)),
        (
            "where(b != 0, a / b, 9)",
            np.where(B == 0, 9, A / np.where(B == 0, 1, B)),
            (OK_A | (B == 0)) & OK_B,
        ),
    ],
)
def test_what_is_void_follows_the_rule(text: str, values: Any, known: Any) -> None:
    found, ok = derived(text)
    np.testing.assert_array_equal(ok, known)
    np.testing.assert_allclose(found[ok], values[ok].astype(float), rtol=1e-12)


@pytest.mark.parametrize("statistic", ["mean", "sum", "min", "max", "range", "deviation", "median", "count"])
@pytest.mark.parametrize("reach", [1, 3])
def test_statistics_of_the_square_around(statistic: str, reach: int) -> None:
    found, ok = derived(f"{statistic}_around(a, {reach})")
    plain = {"mean": np.nanmean, "sum": np.nansum, "min": np.nanmin, "max": np.nanmax, "deviation": np.nanstd,
             "median": np.nanmedian, "range": lambda v: np.nanmax(v) - np.nanmin(v),
             "count": lambda v: np.isfinite(v).sum()}[statistic]  # fmt: skip
    with np.errstate(all="ignore"):
        held = np.where(OK_A, A, np.nan)
        wanted = ndimage.generic_filter(held, plain, 2 * reach + 1, mode="constant", cval=np.nan)
    np.testing.assert_allclose(found[ok], wanted[ok], rtol=1e-9, atol=1e-12)
    assert ok.all() or statistic != "count"


def test_blocks_show_no_border_however_statistics_nest() -> None:
    text = "deviation_around(a - mean_around(b, 2), 3) + where(max_around(c, 4) > 5, 1, sum_around(a, 1))"
    whole, ok = derived(text)
    for pane in SHAPE_PANES:
        part, known = derived(text, pane=pane)
        rows, columns = pane.within(Pane(0, 0, *SHAPE))
        np.testing.assert_array_equal(known, ok[rows, columns])
        np.testing.assert_array_equal(part[known], whole[rows, columns][known])


SHAPE_PANES = list(Pane(0, 0, *SHAPE).blocks(16, 24))


def test_a_large_block_is_computed_piece_by_piece_with_what_formulas_share() -> None:
    cells = random_cells(700, 900, kind="float32")
    view: Any = call("derive", let={"r": raster(cells)}, formula=("x = r * 2 + 1", "y = (r * 2 + 1) / 4"))
    block = view.cells(view.frame.pane)
    assert [band.name for band in view.bands] == ["x", "y"] and block.cells.dtype == np.float32
    np.testing.assert_array_equal(block.cells[0], cells * np.float32(2) + np.float32(1))
    np.testing.assert_array_equal(block.cells[1], block.cells[0] / np.float32(4))


def test_the_longest_formulas_are_computed_and_numbers_stay_whole() -> None:
    found, ok = derived("+".join(["c"] * 115))
    np.testing.assert_allclose(found[ok], 115 * C[ok], rtol=1e-12)
    found, _ = derived("where(k == 1, 16777217, 5)", let={"k": raster(KIND)})
    assert set(np.unique(found).tolist()) == {5, 16_777_217}, (
        "which single precision could not tell from its neighbour"
    )


@pytest.mark.parametrize(
    "text, kind",
    [
        ("k == 1", "uint8"),
        ("where(a > 1, 300, -1)", "int16"),
        ("k * 2", "float32"),
        ("a", "float64"),
        ("-3", "int8"),
    ],
)
def test_results_have_the_smallest_type_that_fits(text: str, kind: str) -> None:
    view: Any = call("derive", let=layers(), formula=text)
    assert view.bands[0].type == kind


@pytest.mark.parametrize(
    "text, unit",
    [
        ("z - w", "m"), ("z / w", ""), ("z * w", "m2"), ("z / t", "m/s"), ("1 / t", "1/s"), ("sqrt(z * w)", "m"), ("max(z, 3)", "m"),
        ("z + t", ""), ("z > w", ""), ("mean_around(z, 1)", "m"), ("z ** 3", "m3"), ("atan2(z, w)", "rad"), ("z * 2", "m"), ("f", "°F"),
    ],
)  # fmt: skip
def test_units_are_carried(text: str, unit: str) -> None:
    let = {name: raster(A, unit=own) for name, own in {"z": "m", "w": "m", "t": "s", "f": "°F"}.items()}
    view: Any = call("derive", let=let, formula=text)
    assert view.bands[0].unit == unit


@pytest.mark.parametrize(
    "text, what, why",
    [
        ("a + bb", "names 'bb' at character 5", "known are a"),
        ("p + 1", "p is a layer of 2 bands", "one of them"),
        ("k == 'wod'", "at character 6", "did you mean wood?"),
        ("a == 'wood'", "at character 6", "classes have names"),
        ("a + 1/0", "at character 5", "no finite number"),
        ("mean_around(a, 0)", "at character 16", "a reach of 1 to 256"),
        ("mean_around(a, k)", "at character 16", "a reach"),
        ("median_around(a, 20)", "at character 18", "a reach of 1 to 8"),
        ("min(a)", "at character 1", "2 to 16 operands, not 1"),
        ("where(a > 1, 'x', 'y')", "at character", "words"),
        ("(" * 80 + "a" + ")" * 80, "at character", "nests deeper"),
        ("a" + " + a" * 600, "at character 1", "characters"),
        ("+".join("a" * 400), "at character 1", "120 steps stand one on another"),
    ],
)
def test_errors_point_at_the_character(text: str, what: str, why: str) -> None:
    with pytest.raises(UsageError) as caught:
        derived(text, let=layers() | {"p": raster(np.stack([A, B]))})
    assert what in caught.value.what and why in caught.value.why + caught.value.remedy


def test_layers_come_onto_the_first_or_onto_a_frame() -> None:
    coarse = raster(np.kron(KIND[:20, :20], np.ones((1, 1), np.uint8)), where=frame(20, 20, 20.0))
    fine = raster(A[:40, :40], where=frame(40, 40, 10.0))
    found, _ = derived("f * 0 + q", let={"f": fine, "q": coarse}, method="nearest")
    np.testing.assert_array_equal(found, np.kron(KIND[:20, :20], np.ones((2, 2))))
    found, _ = derived("f + q * 0", let={"q": coarse, "f": fine}, method="mean")
    np.testing.assert_allclose(found, A[:40, :40].reshape(20, 2, 20, 2).mean((1, 3)))
    with pytest.raises(InputError, match="no coordinate reference system"):
        derived("f + q", let={"f": fine, "q": raster(A, where=frame(61, 43, crs=None))})


def test_every_index_finds_its_bands_by_name_by_colour_and_by_wavelength() -> None:
    middles = {role: sum(known.wavelengths) / 2 for role, known in roles().items()}
    values = {role: NUMBERS.random(SHAPE) + 0.1 for role in middles}
    cells = np.stack(list(values.values()))
    named = [Band(role, "float64") for role in middles]
    waves = [Band(f"band {n} ({nm:g} nm)", "float64") for n, nm in enumerate(middles.values())]
    for name, index in indices().items():
        wanted = eval(str(index.formula), {"sqrt": np.sqrt}, values)
        for bands in (named, waves):
            scene = ArrayRaster(frame(SHAPE[1], SHAPE[0]), tuple(bands), cells)
            view: Any = call("derive", scene, index=name)
            np.testing.assert_allclose(view.cells(view.frame.pane).cells[0], wanted, rtol=1e-12)
        assert index.source and index.title


def test_an_index_says_what_it_lacks_and_known_names_are_offered() -> None:
    for options, words in (({"index": "ndvi"}, "needs a band nir"), ({"index": "ndvy"}, "--index ndvy")):
        with pytest.raises(ZembrelError) as caught:
            derived(let={"s": raster(random_cells(3, 9, 9))}, **options)
        assert words in caught.value.what


@given(
    st.sampled_from(["uint8", "uint16", "int16", "uint32", "int32"]), st.integers(0, 31), st.integers(0, 31)
)
def test_bits_are_those_of_whole_numbers(kind: str, one: int, other: int) -> None:
    first, last = sorted((one, other))
    cells = np.random.default_rng(first).integers(
        np.iinfo(kind).min, np.iinfo(kind).max, (9, 13), dtype=kind, endpoint=True
    )
    taken = (cells.astype(np.int64) >> first) & ((1 << (last - first + 1)) - 1)
    made, _ = derived(f"bits(q, {first}, {last})", let={"q": raster(cells)})
    assert (made == taken).all() and (last - first > 7 or made.dtype == np.uint8)
    single, _ = derived(f"bit(q, {first}) == 1", let={"q": raster(cells)})
    assert (single == ((cells.astype(np.int64) >> first) & 1)).all()


@pytest.mark.parametrize(
    ("formula", "why"),
    [("q & 8", "bits are taken by bit"), ("q > 1 | q < 0", "joined by or"), ("bit(q, 60)", "from 0 to 52"), ("bits(q, 4, 2)", "the lower first"), ("bit(q, k)", "whole numbers")],
)  # fmt: skip
def test_what_are_no_bits_is_told(formula: str, why: str) -> None:
    with pytest.raises(UsageError) as caught:
        derived(formula, let={"q": raster(KIND), "k": raster(KIND)})
    assert why in caught.value.why
