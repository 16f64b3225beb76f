"""How rasters and points are cut into sheets, as it is asked for."""

from __future__ import annotations

from dataclasses import dataclass

from zembrel.errors import UsageError
from zembrel.facts import Fact, fact


@dataclass(frozen=True)
class Cutting:
    """How to cut: one of `split` (`4x3`), `size` (`1km`), `cells` (`512`), `at_most` (`200MB`), `by` (a file
    of polygons).

    margin: cells or a length added around each sheet; name: a template; index: a feature file for the
    sheets; resume: keep sheets that stand already.
    """

    split: str | None = None
    size: str | None = None
    cells: str | None = None
    at_most: str | None = None
    by: str | None = None
    margin: str | None = None
    name: str | None = None
    index: str | None = None
    resume: bool = False
    touching: bool = False
    method: str = "auto"


def pair_of(text: str, flag: str, example: str) -> tuple[int, int]:
    """`4x3`, or one number for both. Raises UsageError."""
    one, _, other = text.lower().partition("x")
    if not one.isdigit() or not (other or one).isdigit() or int(one) < 1 or int(other or one) < 1:
        raise UsageError(f"{flag} {text}", "columns x rows are needed", f"write {flag} {example}")
    return int(one), int(other or one)


def left_out(empty: int, kept: int) -> tuple[Fact, ...]:
    """What there is to say of sheets that were not written: empty ones, and those that stood already."""
    first = fact("empty_sheets", empty=empty) if empty else fact("no_empty_sheet")
    return (first, *([fact("sheets_stood", kept=kept)] if kept else []))
