"""Lengths, angles and byte sizes as people type them."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrel.errors import UsageError
from zembrel.measure import METRES_PER_DEGREE, parse_bytes, parse_cell, parse_length, show_bytes, show_number


@pytest.mark.parametrize(
    "text, metres",
    [
        ("2m", 2),
        ("1ft", 0.3048),
        ("1usft", 1200 / 3937),
        ("1mi", 1609.344),
        ("1nmi", 1852),
        ("3km", 3000),
        ("7", 7),
    ],
)
def test_lengths_are_exact_metres(text: str, metres: float) -> None:
    assert parse_length(text).in_unit("length", Fraction(1)) == metres


def test_angles_are_exact_degrees() -> None:
    assert parse_length("30arcsec").in_unit("angle", Fraction(1)) == 30 / 3600
    assert parse_length("1grad").in_unit("angle", Fraction(1)) == 0.9


def test_a_length_for_degrees_is_refused_with_the_size_that_fits() -> None:
    with pytest.raises(UsageError) as caught:
        parse_length("30m").in_unit("angle", 1.0)
    fitting = parse_length(caught.value.remedy.split("about ")[1].split(",")[0])
    assert fitting.in_unit("angle", 1.0) == pytest.approx(30 / METRES_PER_DEGREE, rel=0.01)


@pytest.mark.parametrize(
    "text", ["", "m", "2 parsecs", "1e", "2m3", "--2", "nan", "inf", "1e999", "1e-999999999m", "9" * 400]
)
def test_what_is_no_length_is_refused(text: str) -> None:
    with pytest.raises(UsageError):
        parse_length(text)


@pytest.mark.parametrize("text", ["0m", "-1m", "2m/0m"])
def test_a_cell_covers_some_ground(text: str) -> None:
    with pytest.raises(UsageError):
        parse_cell(text)


@given(st.integers(1, 10**15))
def test_bytes_are_shown_to_three_digits(size: int) -> None:
    number, unit = show_bytes(size).replace(",", "").split()
    assert parse_bytes(number + unit if unit != "B" else number) == pytest.approx(size, rel=5e-3, abs=0.5)


def test_a_giga_is_not_a_gibi() -> None:
    assert (parse_bytes("2GB"), parse_bytes("2GiB"), parse_bytes("7")) == (2 * 10**9, 2 * 2**30, 7)
    with pytest.raises(UsageError):
        parse_bytes("many")


def test_a_number_that_is_none_has_one_name() -> None:
    assert show_number(float("nan")) == "NaN" and show_number(-9999.0) == "-9,999"
