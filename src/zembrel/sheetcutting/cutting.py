"""How rasters and points are cut into sheets, as it is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.inputs.methods import MethodName
from zembrel.optiontext import OptionText


@dataclass(frozen=True)
class Cutting:
    """How to cut: one of `split` (`4x3`), `size` (`1km`), `cells` (`512`), `at_most` (`200MB`), `by` (a file
    of polygons).

    margin: cells or a length added around each sheet; name: a template; index: a feature file for the
    sheets; resume: keep sheets that stand already.
    """

    split: Annotated[str | None, OptionText("Split into columns x rows of sheets, e.g. 4x3.", "CxR")] = None
    size: Annotated[
        str | None,
        OptionText("Ground size of a sheet, aligned to whole multiples, e.g. 1km or 1km/2km.", "LENGTH"),
    ] = None
    cells: Annotated[str | None, OptionText("Cells of a sheet, e.g. 512 or 512x256.", "N")] = None
    at_most: Annotated[
        str | None,
        OptionText("Use the fewest sheets whose files are not larger than this, e.g. 200MB.", "BYTES"),
    ] = None
    by: Annotated[str | None, OptionText("Write a sheet for each polygon, blank outside it.", "FILE")] = None
    margin: Annotated[str | None, OptionText("Margin to add around each sheet.", "CELLS|LENGTH")] = None
    name: Annotated[
        str | None,
        OptionText(
            "File names from stem, number, row, col, west, south, east, north or a field, e.g. "
            "{row:02}_{col:02}.",
            "TEMPLATE",
        ),
    ] = None
    index: Annotated[
        str | None, OptionText("Also write the sheet outlines as features: .gpkg or .geojson.", "FILE")
    ] = None
    resume: Annotated[
        bool, OptionText("Keep the sheets that an earlier run with the same inputs and options made.")
    ] = False
    touching: Annotated[bool, OptionText("With --by: keep every cell that the outline touches.")] = False
    method: MethodName = "auto"


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
