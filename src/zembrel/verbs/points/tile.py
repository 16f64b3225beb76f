"""tile for points: sheets that hold each point once, and those of a margin around them."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel import features
from zembrel.engine.commit import check_free
from zembrel.engine.points import Piece
from zembrel.errors import EmptyInputError, UsageError, ZembrelError
from zembrel.facts import distinct, fact
from zembrel.features.files.named import read_named
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.points.files.catalogue import POINT_FORMATS, format_of
from zembrel.points.model import PointBlock
from zembrel.points.picking import Inside
from zembrel.points.records import ExtraField, Layout
from zembrel.reading import readings
from zembrel.verbs import features as of_features
from zembrel.verbs.cutting import Cutting, left_out, pair_of
from zembrel.verbs.intake import Given
from zembrel.verbs.lengths import cell_in_units_of, in_units_of
from zembrel.verbs.naming import check_template, sheet_name
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.points.mosaic import Merged, merged
from zembrel.verbs.points.opening import open_cloud, picking
from zembrel.verbs.points.survey import with_part_bounds
from zembrel.verbs.points.target import new_file
from zembrel.verbs.points.writing import Job, Sieve, carry_out
from zembrel.verbs.receipt import PointTotals, Receipt, Result
from zembrel.verbs.resuming import SheetRun

_MARGIN = ExtraField("margin", "u1")


@dataclass(frozen=True)
class PointSheet:
    """A sheet to be made: its place without and with margin, its facts, and its file."""

    core: Inside
    wide: Inside
    facts: dict[str, Any]
    path: Path = Path()


def tile(given: Given, where: Where, output: Output, cutting: Cutting) -> Receipt:
    """Cut all points, seen as one cloud, into sheets in the folder `output.out`."""
    paths, inputs = given.paths, given.options
    whole = merged(given, where, output)
    sources = [with_part_bounds(source, output) for source in whole.sources]
    whole = replace(whole, sources=sources)
    sheets = _named(_sheets(whole, cutting), paths, output, cutting)
    for sheet in sheets:
        if not output.dry_run and not cutting.resume:
            check_free(sheet.path, output.replace)
    if cutting.index and not output.dry_run:
        of_features.writing.check_target(Path(cutting.index), output)
    made, empty, kept = [], list[Path](), 0
    run = SheetRun.of(given, where, output, cutting, [sheet.path for sheet in sheets])
    if not output.dry_run:
        run.tell()
    for sheet in sheets:
        if run.stands(sheet.path) and _sound(sheet.path):
            kept += 1
            continue
        known = run.has_found_empty(sheet.path)
        facts = None if known else _written(whole, sheet, inputs, output, cutting)
        if facts is None:
            empty.append(sheet.path)
        else:
            made.append((sheet, facts))
    if not output.dry_run:
        run.tell(empty)
    if cutting.index and not output.dry_run:
        _write_index(Path(cutting.index), whole.crs, made, output)
    return _receipt(paths, whole, made, (len(sheets), len(empty), kept), output, cutting)


def _sound(path: Path) -> bool:
    """Whether a sheet that stands can be opened, and has points."""
    try:
        with readings.aside():
            return bool(open_cloud(Origin.of(path), Inputs()).cloud.count)
    except ZembrelError:
        return False


def _sheets(whole: Merged, cutting: Cutting) -> list[PointSheet]:
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


def _named(
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


def _written(
    whole: Merged, sheet: PointSheet, inputs: Inputs, output: Output, cutting: Cutting
) -> dict[str, Any] | None:
    """What was written of a sheet; None if no point of its own lies there."""
    used = whole.met_by(sheet.wide)
    if not used.sources:
        return None
    layout = whole.layout
    if cutting.margin:
        layout = Layout(layout.format, (*(f for f in layout.extra if f.name != "margin"), _MARGIN))
    given = {"layout": layout, "scaling": whole.scaling, "crs": whole.crs}
    new = new_file(used.sources[0], sheet.path, output, **given)  # type: ignore[arg-type]
    change = _Cut(used, sheet, new.layout if cutting.margin else None)
    inside = sheet.wide if all(move is None for move in used.moves) else None
    job = Job(new, Sieve(inside, picking(inputs)), change, counted=_own, empty=True)
    quiet = replace(output, replace=output.replace or cutting.resume)
    done = carry_out(job, used.sources, sheet.path, quiet)
    own = done.counts["own"]
    if not own and not output.keep_empty and not output.dry_run:
        sheet.path.unlink()
        return None
    return {"points": done.written, "own": own, "bytes": done.bytes, "losses": done.losses}


@dataclass(frozen=True, eq=False)
class _Cut:
    """A change to the points of a sheet; margin: the layout of a sheet that marks those of its margin."""

    whole: Merged
    sheet: PointSheet
    margin: Layout | None

    def __call__(self, block: PointBlock, piece: Piece) -> PointBlock:
        block = self.whole.brought(block, piece)
        block = block.take(self.sheet.wide.mask(block.x, block.y))
        if self.margin is None:
            return block
        core = self.sheet.core.mask(block.x, block.y)
        return block.regraded(self.margin)[0].having("margin", (~core).astype(np.uint8))


def _own(block: PointBlock) -> dict[str, int]:
    """Points that are not of a margin."""
    marked = _MARGIN in block.layout.extra
    return {"own": len(block) - (int(np.count_nonzero(block.values("margin"))) if marked else 0)}


def _write_index(
    path: Path, crs: CRS | None, made: Sequence[tuple[PointSheet, dict[str, Any]]], output: Output
) -> None:

    rows = [
        {
            "path": os.path.relpath(sheet.path, path.parent),
            **sheet.facts,
            "points": facts["own"],
            "bytes": facts["bytes"],
        }
        for sheet, facts in made
    ]
    shapes = [shapely.box(*sheet.wide.bounds) for sheet, _ in made]
    of_features.writing.write_layer(
        path, features.table.FeatureTable.of(shapes, rows, crs or by_code(4326)), output
    )


def _receipt(
    paths: Sequence[Path],
    whole: Merged,
    made: Sequence[tuple[PointSheet, dict[str, Any]]],
    counts: tuple[int, int, int],
    output: Output,
    cutting: Cutting,
) -> Receipt:
    number, empty, kept = counts
    size, points = sum(f["bytes"] for _, f in made), sum(f["points"] for _, f in made)
    own = sum(f["own"] for _, f in made)
    checks = () if cutting.by or kept else (fact("each_point_once", points=own),)
    margins = (fact("points_margin", margin=cutting.margin, points=points - own),) if cutting.margin else ()
    result = Result(output.path, size, files=len(made), count=points, what="points", seconds=output.seconds)
    return Receipt(
        "tile",
        tuple(paths),
        output.out,
        planned=output.dry_run,
        points=PointTotals(whole.count, whole.count, whole.crs, whole.layout.format),
        chose=distinct((fact("sheets", sheets=number), *margins, *whole.chose)),
        checks=() if output.dry_run else (*left_out(empty, kept), *checks),
        results=(result,),
        products={"index": Path(cutting.index)} if cutting.index else {},
        own={
            "empty": empty, "kept": kept, "bytes": size, "points": own,
            "sheets": [{**sheet.facts, **f, "path": str(sheet.path)} for sheet, f in made],
        },
    )  # fmt: skip
