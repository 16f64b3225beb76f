"""The sheets that a raster is cut into: their cells, their facts, their names."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zembrel import features
from zembrel.errors import EmptyInputError, UsageError
from zembrel.features.files.named import read_named
from zembrel.formats import choose_format, format_named
from zembrel.grid.cutting import Cut, by_cells, by_size, split
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.lengths import cell_in_units_of, in_cells
from zembrel.inputs.options import Output
from zembrel.raster.views.outline import Cover
from zembrel.sheetcutting.cutting import Cutting, pair_of
from zembrel.sheetcutting.naming import check_template, sheet_name


@dataclass(frozen=True)
class Sheet:
    """A sheet to be made: its cells of the whole with their margin, its facts, its outline, its file."""

    pane: Pane
    facts: Mapping[str, Any]
    cover: Cover | None = None
    path: Path = field(default_factory=Path)


def sheets_of(frame: Frame, cutting: Cutting) -> list[Sheet]:
    """The sheets without names yet."""
    if cutting.by:
        return _by_polygons(frame, cutting)
    cuts = _cuts(frame, cutting)
    margin = _margin(frame, cutting.margin)
    return [Sheet(_widened(cut.pane, margin, frame), _facts(cut, frame)) for cut in cuts]


def _cuts(frame: Frame, cutting: Cutting) -> list[Cut]:
    if cutting.split:
        across, down = pair_of(cutting.split, "--split", "4x3")
        if across > frame.columns or down > frame.rows:
            raise UsageError(
                f"--split {cutting.split}",
                f"there are only {frame.columns:,} x {frame.rows:,} cells",
                "take fewer sheets",
            )
        return split(frame, across, down)
    if cutting.cells:
        return by_cells(frame, *pair_of(cutting.cells, "--cells", "512 or 512x256"))
    if not frame.north_up:
        raise UsageError("--size needs a frame that is north up", "this one is turned", "use --cells")
    size = cell_in_units_of(str(cutting.size), frame.crs)
    if min(size[0] / frame.cell[0], size[1] / frame.cell[1]) < 1:
        raise UsageError(
            f"--size {cutting.size}", "a sheet would be smaller than a cell", "take a larger one"
        )
    return by_size(frame, *size)


def _margin(frame: Frame, text: str | None) -> tuple[int, int]:
    """Cells to add on each side, along x and y."""
    if not text:
        return 0, 0
    across, down = in_cells(text, frame)
    if min(across, down) < 0:
        raise UsageError(f"--margin {text}", "sheets would not meet", "give 0 or more")
    return math.ceil(across - 1e-9), math.ceil(down - 1e-9)


def _widened(pane: Pane, margin: tuple[int, int], frame: Frame) -> Pane:
    across, down = margin
    wide = Pane(pane.top - down, pane.left - across, pane.bottom + down, pane.right + across)
    part = wide.meet(frame.pane)
    assert part is not None
    return part


def _facts(cut: Cut, frame: Frame) -> dict[str, Any]:
    """What a name may be made of; bounds are those without margin."""
    west, south, east, north = frame.bounds_of(cut.pane)
    return {
        "number": cut.number, "row": cut.row, "col": cut.column,
        "west": west, "south": south, "east": east, "north": north,
    }  # fmt: skip


def _by_polygons(frame: Frame, cutting: Cutting) -> list[Sheet]:
    """A sheet for each feature that meets the frame, blank outside its outline."""

    table = read_named(str(cutting.by))
    if frame.crs is not None:
        table = table.to(frame.crs)
    margin, sheets = _margin(frame, cutting.margin), []
    for number, row in enumerate(table.rows(), 1):
        outline = table.take([number - 1]).polygon(number)
        if margin != (0, 0):
            outline = outline.buffer(margin[0] * frame.cell[0], join_style="mitre")
        pane = frame.pane_of(*outline.bounds).meet(frame.pane)
        if pane is None:
            continue
        facts = {
            **{str(key): value for key, value in row.items()},
            **_facts(Cut(number, 1, number, pane), frame),
        }
        sheets.append(
            Sheet(pane, facts, features.cover.PolygonCover(frame.crop(pane), outline, cutting.touching))
        )
    if not sheets:
        raise EmptyInputError(
            f"no feature of {cutting.by} lies on the inputs",
            "there is nothing to cut",
            "check the CRS of both",
        )
    return sheets


def named_sheets(
    sheets: list[Sheet], layers: Sequence[Layer], output: Output, cutting: Cutting
) -> list[Sheet]:
    """The sheets with their files. Raises UsageError where two would have one name."""
    fields = {"stem": layers[0].path.stem if len(layers) == 1 else "sheet", **sheets[0].facts}
    template = cutting.name or _default_name(sheets, cutting)
    check_template(template, fields)
    asked = output.format.lower() if output.format else None
    ending = format_named(choose_format(Path("x.tif"), asked)).endings[0]
    made: list[Sheet] = []
    seen: dict[str, Any] = {}
    for sheet in sheets:
        name = sheet_name(template, {**fields, **sheet.facts})
        if name.lower() in seen:
            raise UsageError(
                f"sheets {seen[name.lower()]} and {sheet.facts['number']} would both be {name}{ending}",
                "one would be lost",
                "add {number} to --name",
            )
        seen[name.lower()] = sheet.facts["number"]
        made.append(replace(sheet, path=output.path / (name + ending)))
    return made


def _default_name(sheets: Sequence[Sheet], cutting: Cutting) -> str:
    if cutting.by:
        named = {str(sheet.facts.get("name") or "") for sheet in sheets} - {""}
        number = f"{{stem}}_{{number:0{len(str(len(sheets)))}}}"
        return "{stem}_{name}" if len(named) == len(sheets) else number
    rows, columns = (len(str(max(sheet.facts[key] for sheet in sheets))) for key in ("row", "col"))
    return f"{{stem}}_{{row:0{rows}}}_{{col:0{columns}}}"
