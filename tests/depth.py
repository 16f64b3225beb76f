"""What the suite does on each run, and what only `make deep` does (ZEMBREL_DEEP=1, or a part: ZEMBREL_DEEP=K/N)."""

from __future__ import annotations

import os
from collections.abc import Container, Iterable
from typing import Any

import pytest

ASKED = os.environ.get("ZEMBREL_DEEP", "")
TIMES = 20  # as many examples of a property in make deep


def examples(count: int) -> int:
    """How many examples of a property are tried: `count` in the suite."""
    return count * TIMES if ASKED else count


def some(rows: Iterable[Any], suite: Container[Any]) -> list[Any]:
    """`rows` as parameters of a test; those that are not in `suite` run in `make deep` alone."""
    return [row if row in suite else _deep(row) for row in rows]


def _deep(row: Any) -> Any:
    values = row if isinstance(row, tuple) else (row,)
    return pytest.param(*values, marks=pytest.mark.deep)


def part() -> tuple[int, int]:
    """The part K of N that is asked for, K from 0."""
    number, _, count = ASKED.partition("/")
    return (int(number) % int(count), int(count)) if count else (0, 1)
