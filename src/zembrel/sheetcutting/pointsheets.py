"""The sheets that points are cut into: their places, their facts, their names."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import EmptyInputError, UsageError
from zembrel.features.files.named import read_named
from zembrel.geodesy.crs import CRS
from zembrel.inputs.lengths import cell_in_units_of, in_units_of
from zembrel.inputs.options import Output
from zembrel.points.files.catalogue import POINT_FORMATS, format_of
from zembrel.points.picking import Inside
from zembrel.results.mergedclouds import Merged
from zembrel.sheetcutting.cutting import Cutting, pair_of
from zembrel.sheetcutting.naming import check_template, sheet_name


@dataclass(frozen=True)
class PointSheet:
    """A sheet to be made: its place without and with margin, its facts, and its file."""

    core: Inside
    wide: Inside
    facts: dict[str, Any]
    path: Path = Path()


def sheets_of(whole: Merged, cutting: Cutting) -> list[PointSheet]:
    """The sheets without files yet, numbered from the upper left."""
    if cutting.by:
        return _by_polygons(whole, cutting)
    bounds, steps = whole.bounds, whole.scaling.scale
    if whole.within is not None:
        box = whole.within.bounds
        bounds = (
            max(bounds[0], box[0]),
            max(bounds[1], box[1]),
            0.0,
            min(bounds[3], box[2]),
            min(bounds[4], box[3]),
            0.0,
        )
    west, south, east, north = bounds[0], bounds[1] - steps[1], bounds[3] + steps[0], bounds[4]
    if cutting.split:
        across, down = pair_of(cutting.split, "--split", "4x3")
        xs, ys = np.linspace(west, east, across + 1).tolist(), np.linspace(north, south, down + 1).tolist()
    else:
        width, height = cell_in_units_of(str(cutting.size), whole.crs)
        xs = [n * width for n in range(math.floor(west / width), math.ceil(east / width) + 1)]
        ys = [n * height for n in range(math.ceil(north / height), math.floor(south / height) - 1, -1)]
    if (len(xs) - 1) * (len(ys) - 1) > 100_000:
        raise UsageError(
            f"{(len(xs) - 1) * (len(ys) - 1):,} sheets", "100,000 are possible", "take larger ones"
        )
    margin = _margin(cutting.margin, whole.crs)
    made: list[PointSheet] = []
    for row, (top, bottom) in enumerate(pairwise(ys), 1):
        for column, (left, right) in enumerate(pairwise(xs), 1):
            facts = {"number": len(made) + 1, "row": row, "col": column}
            facts |= {"west": left, "south": bottom, "east": right, "north": top}
            wide = Inside((left - margin, bottom - margin, right + margin, top + margin))
            made.append(PointSheet(Inside((left, bottom, right, top)), wide, facts))
    return made


def _margin(text: str | None, crs: CRS | None) -> float:
    if not text:
        return 0.0
    size = in_units_of(text, crs)
    if size < 0:
        raise UsageError(f"--margin {text}", "sheets would not meet", "give 0 or more")
    return size


def _by_polygons(whole: Merged, cutting: Cutting) -> list[PointSheet]:
    """A sheet for each feature that meets the points."""

    table = read_named(str(cutting.by))
    if whole.crs is not None:
        table = table.to(whole.crs)
    margin, made = _margin(cutting.margin, whole.crs), []
    for number, row in enumerate(table.rows(), 1):
        outline = table.take([number - 1]).polygon(number)
        west, south, east, north = outline.bounds
        if not Inside(outline.bounds).meets(whole.bounds):
            continue
        wide = outline.buffer(margin, join_style="mitre") if margin else outline
        facts = {str(key): value for key, value in row.items()}
        facts |= {"number": number, "row": 1, "col": number}
        facts |= {"west": west, "south": south, "east": east, "north": north}
        made.append(PointSheet(Inside(outline.bounds, outline), Inside(wide.bounds, wide), facts))
    if not made:
        raise EmptyInputError(
            f"no feature of {cutting.by} lies on the points",
            "there is nothing to cut",
            "check the CRS of both",
        )
    return made


def named_sheets(
    sheets: list[PointSheet], paths: Sequence[Path], output: Output, cutting: Cutting
) -> list[PointSheet]:
    """The sheets with their files. Raises UsageError where two would have one name."""
    fields = {"stem": paths[0].stem.removesuffix(".copc") if len(paths) == 1 else "sheet", **sheets[0].facts}
    rows, columns = (len(str(max(sheet.facts[key] for sheet in sheets))) for key in ("row", "col"))
    by_number = f"{{stem}}_{{number:0{len(str(len(sheets)))}}}"
    template = cutting.name or (by_number if cutting.by else f"{{stem}}_{{row:0{rows}}}_{{col:0{columns}}}")
    check_template(template, fields)
    name = output.format or format_of(paths[0]) or "laz"
    if name not in POINT_FORMATS:
        raise UsageError(f"--format {name}", "it is no point format", "write --format laz")
    made: dict[str, PointSheet] = {}
    for sheet in sheets:
        path = output.path / (
            sheet_name(template, {**fields, **sheet.facts}) + POINT_FORMATS[name].endings[0]
        )
        if str(path).lower() in made:
            raise UsageError(f"two sheets would be {path}", "one would be lost", "add {number} to --name")
        made[str(path).lower()] = replace(sheet, path=path)
    return list(made.values())
