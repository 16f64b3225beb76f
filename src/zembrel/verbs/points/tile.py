"""tile for points: sheets that hold each point once, and those of a margin around them."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel import features, results
from zembrel.engine.commit import check_free
from zembrel.engine.points import Piece
from zembrel.errors import ZembrelError
from zembrel.facts import distinct, fact
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code
from zembrel.inputs.clouds import open_cloud, picking
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.points.model import PointBlock
from zembrel.points.records import ExtraField, Layout
from zembrel.reading import readings
from zembrel.results.clouds import Job, Sieve, carry_out
from zembrel.results.cloudsurvey import with_part_bounds
from zembrel.results.cloudtarget import new_file
from zembrel.results.mergedclouds import Merged, merged
from zembrel.results.receipt import PointTotals, Receipt, Result
from zembrel.sheetcutting.cloudsheetsize import fitting
from zembrel.sheetcutting.cutting import Cutting, left_out
from zembrel.sheetcutting.pointsheets import PointSheet, named_sheets, sheets_of
from zembrel.sheetcutting.resuming import SheetRun

_MARGIN = ExtraField("margin", "u1")


def tile(given: Given, where: Where, output: Output, cutting: Cutting) -> Receipt:
    """Cut all points, seen as one cloud, into sheets in the folder `output.out`."""
    paths, inputs = given.paths, given.options
    whole = merged(given, where, output)
    sources = [with_part_bounds(source, output) for source in whole.sources]
    whole = replace(whole, sources=sources)
    cutting, fitted = fitting(
        whole, paths, cutting, output, lambda sheet, to: _written(whole, sheet, inputs, to, cutting)
    )
    sheets = named_sheets(sheets_of(whole, cutting), paths, output, cutting)
    for sheet in sheets:
        if not output.dry_run and not cutting.resume:
            check_free(sheet.path, output.replace)
    if cutting.index and not output.dry_run:
        results.tables.check_target(Path(cutting.index), output)
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
    counts = (len(sheets), len(empty), kept)
    whole = replace(whole, chose=(*fitted, *whole.chose))
    return _receipt(paths, whole, made, counts, output, cutting)


def _sound(path: Path) -> bool:
    """Whether a sheet that stands can be opened, and has points."""
    try:
        with readings.aside():
            return bool(open_cloud(Origin.of(path), Inputs()).cloud.count)
    except ZembrelError:
        return False


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
    results.tables.write_layer(
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
