"""Formulas: what they compute, and that they can do nothing else."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrel.errors import UsageError
from zembrel.expression.classnames import with_codes
from zembrel.expression.formula import Formula, parse_condition
from zembrel.expression.formula import parse_formula as parsed
from zembrel.expression.operand import Operand, whole_type

A, B = np.arange(-6, 6).reshape(3, 4), np.linspace(0.5, 3, 12).reshape(3, 4)
NAMES = ("a", "b")


def parse_formula(text: str, known: tuple[str, ...]) -> Formula:
    made = parsed(text)
    made.check_names(known)
    return made


@st.composite
def formulas(draw: Any, depth: int = 3) -> str:
    if depth == 0 or draw(st.booleans()):
        return draw(st.sampled_from(["a", "b", "2", "0.5", "7"]))
    one, other = draw(formulas(depth=depth - 1)), draw(formulas(depth=depth - 1))
    return f"({one} {draw(st.sampled_from(['+', '-', '*', '/']))} {other})"


@given(formulas())
def test_arithmetic_is_that_of_arrays(text: str) -> None:
    with np.errstate(all="ignore"):
        wanted = eval(text, {"a": A, "b": B}) if "/" not in text or any(n in text for n in NAMES) else None
        found = parse_formula(text, NAMES)({"a": A, "b": B})
    if wanted is not None:
        np.testing.assert_array_equal(found, wanted)


@pytest.mark.parametrize(
    "text, wanted",
    [
        ("a > 2 and b < 2.5 or not a <= 4", ((A > 2) & (B < 2.5)) | (A > 4)),
        ("-2 < a < 3", (A > -2) & (A < 3)),
        ("abs(a) == 3", np.abs(A) == 3),
        ("max(a, 0) + min(b, 1)", np.maximum(A, 0) + np.minimum(B, 1)),
        ("where(a < 0, -a, b)", np.where(A < 0, -A, B)),
        ("a % 4 // 2 != 1", A % 4 // 2 != 1),
    ],
)
def test_conditions_and_functions(text: str, wanted: Any) -> None:
    np.testing.assert_array_equal(parse_formula(text, NAMES)({"a": A, "b": B}), wanted)


@pytest.mark.parametrize(
    "text",
    [
        "__import__('os').system('true')", "a.T", "a[0]", "lambda: a", "[a for a in b]", "a if b else a",
        "open('x')", "a, b", "a; b", "a :=  3", "f(a)", "max(a, key=b)", "", "a >", "a > > b", "a 3", "'a' + 1", "a == (1, 2)", "a in 3", "a in (b)", "not 'a'", "a and 'b'", "c", "(" * 500 + "a" + ")" * 500,
        "a + 1" * 1000, "a is b", "a in b", "True and eval", "~a", "a @ b", "sqrt(a, b)", "max()", "min(a)",
    ],
)  # fmt: skip
def test_anything_else_is_refused(text: str) -> None:
    with pytest.raises(UsageError):
        parse_formula(text, NAMES)


def test_names_of_any_kind_and_words_in_lists() -> None:
    values = {"class": A, "s.nir": B, "two words": A * 2}
    found = parsed("class > 2 and s.nir < 2.5 or `two words` = 4")
    assert found.names == ("class", "s.nir", "two words")
    np.testing.assert_array_equal(found(values), ((A > 2) & (B < 2.5)) | (A * 2 == 4))
    kinds = np.array(["wood", "heath", "bog"])
    np.testing.assert_array_equal(parsed("kind in ('wood', 'bog')")({"kind": kinds}), [True, False, True])
    np.testing.assert_array_equal(parsed("kind not in ['wood']")({"kind": kinds}), [False, True, True])
    np.testing.assert_array_equal(
        parsed("v in (-1, 2.5)")({"v": np.array([-1, 0, 2.5])}), [True, False, True]
    )
    np.testing.assert_array_equal(parsed("-2 ** 2 + 2 ** -1")({}), -3.5)


@pytest.mark.parametrize(
    "text, character, word",
    [
        ("depth > ", 9, "ends too early"), ("depth >> 3", 8, "a value is needed, not '>'"), ("a + 'b'", 5, "a word"),
        ("a ? b", 3, "'?' means nothing"), ("sqrr(a)", 1, "sqrt"), ("(a + b", 7, "')' is needed"),
        ("min(a)", 1, "2 to 16 operands, not 1"), ("kind in wood", 9, "in wants a list"), ("a == 1 b", 8, "cannot follow"),
    ],
)  # fmt: skip
def test_an_error_points_at_the_character(text: str, character: int, word: str) -> None:
    with pytest.raises(UsageError) as caught:
        parsed(text)
    assert caught.value.what.endswith(f"at character {character}") and word in caught.value.why


@pytest.mark.parametrize("text", ["a + b", "'a'", "3", "abs(a)"])
def test_what_is_neither_true_nor_false_is_no_condition(text: str) -> None:
    with pytest.raises(UsageError, match="is no condition"):
        parse_condition(text)


COVER = {"cover": Operand("uint8", codes={"heath": 3, "wood": 7}), "slope": Operand("float32")}


@pytest.mark.parametrize(
    ("text", "cells", "wanted"),
    [
        ("cover == 'heath'", [3, 7, 1], [True, False, False]), ("'wood' == cover", [3, 7, 1], [False, True, False]),
        ("cover in ('heath', 'wood')", [3, 7, 1], [True, True, False]), ("cover in ('heath', 1)", [3, 7, 1], [True, False, True]),
        ("cover not in ('heath', 'wood')", [3, 7, 1], [False, False, True]),
        ("where(cover == 'wood', 5, 0) + 1", [3, 7, 1], [1, 6, 1]), ("not (cover == 'wood') and cover > 2", [3, 7, 1], [True, False, False]),
    ],
)  # fmt: skip
def test_names_of_classes_are_their_codes(text: str, cells: list[int], wanted: list[Any]) -> None:
    formula = with_codes(parsed(text), COVER)
    np.testing.assert_array_equal(formula({"cover": np.array(cells)}), wanted)


@pytest.mark.parametrize(
    ("text", "at", "why"),
    [
        ("cover == 'heeth'", 10, "there is no class 'heeth': did you mean heath?"),
        ("cover in ('heath', 'sea')", None, "there is no class 'sea': known are heath, wood"),
        ("slope == 'wood'", 10, "words are compared with a layer whose classes have names"),
        ("cover + 1 == 'wood'", None, "words are compared with a layer whose classes have names"),
    ],
)  # fmt: skip
def test_words_that_are_no_class_are_told_at_their_place(text: str, at: int | None, why: str) -> None:
    with pytest.raises(UsageError) as caught:
        with_codes(parsed(text), COVER)
    assert caught.value.why == why and caught.value.remedy == "mend the formula"
    assert caught.value.what.startswith(f"{text!r} means nothing at character ")
    assert at is None or caught.value.what.endswith(f" {at}")


@pytest.mark.parametrize(
    ("low", "high", "kind"),
    [
        (0, 0, "uint8"), (0, 255, "uint8"), (0, 256, "uint16"), (-1, 0, "int8"), (-128, 127, "int8"), (-129, 0, "int16"), (-1, 128, "int16"),
        (0, 65_535, "uint16"), (0, 65_536, "uint32"), (-32_768, 32_767, "int16"), (-1, 32_768, "int32"), (0, 2**32 - 1, "uint32"),
        (-(2**31), 2**31 - 1, "int32"), (-1, 2**31, "int64"), (0, 2**32, "uint64"), (-(2**63), 0, "int64"), (0, 2**64, "float64"),
    ],
)  # fmt: skip
def test_whole_numbers_get_the_smallest_type_that_holds_them(low: int, high: int, kind: str) -> None:
    assert whole_type(low, high) == kind


# how many operands each function has, as docs/derive.md says
OPERANDS = {1: ["abs", "sqrt", "log", "log10", "exp", "sin", "cos", "tan", "asin", "acos", "atan", "radians", "degrees", "floor", "ceil", "round", "sign"],
            2: ["atan2", "hypot"], 3: ["clamp", "where"]}  # fmt: skip


@pytest.mark.parametrize(
    ("count", "name"), [(count, name) for count, names in OPERANDS.items() for name in names]
)
def test_a_function_has_so_many_operands_no_more_and_no_fewer(count: int, name: str) -> None:
    parsed(f"{name}({', '.join(['a'] * count)})")
    for wrong in (count - 1, count + 1):
        with pytest.raises(UsageError, match="cannot be read") as refused:
            parsed(f"{name}({', '.join(['a'] * wrong)})")
        assert f"{name} has {count} operand{'s' * (count > 1)}, not {wrong}" in refused.value.why
