"""tile: cut into sheets."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from zembrel import features, results
from zembrel.engine.commit import check_free
from zembrel.engine.plan import Plan
from zembrel.errors import UsageError, ZembrelError
from zembrel.facts import distinct, fact
from zembrel.formats import open_raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Frame
from zembrel.inputs.intake import Given
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import open_layers
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import decide
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.passing import blocks_of
from zembrel.reading import readings
from zembrel.results.dispatch import by_kind
from zembrel.results.receipt import Receipt, Result
from zembrel.sheetcutting.cutting import Cutting, left_out
from zembrel.sheetcutting.resuming import SheetRun
from zembrel.sheetcutting.sheetcuts import Sheet, named_sheets, sheets_of
from zembrel.sheetcutting.sheetmaking import Done, made_sheets
from zembrel.sheetcutting.sheetsize import fitting


def tile(inputs: Inputs, where: Where, output: Output, cutting: Cutting) -> Receipt:
    """Cut the inputs, seen as one, into sheets in the folder `output.out`.

    Raises UsageError unless one way to cut is given, InputError if nothing is to be cut.
    """

    ways = [way for way in (cutting.split, cutting.size, cutting.cells, cutting.at_most, cutting.by) if way]
    if len(ways) != 1:
        remedy = "give --split 4x3, --size, --cells, --at-most or --by"
        raise UsageError(f"{len(ways)} ways to cut", "sheets are cut in one", remedy)
    if cutting.index:
        features.files.check_name(Path(cutting.index))
    return by_kind("tile", inputs, where, output, cutting)


def of_rasters(given: Given, where: Where, output: Output, cutting: Cutting) -> Receipt:
    """Rasters, seen as one, cut into sheets."""
    layers = open_layers(given)
    target = decide(layers, where)
    view, chose = joined(layers, target, cutting.method)
    cutting, fitted = fitting(view, layers, cutting, output)
    sheets = named_sheets(sheets_of(target.frame, cutting), layers, output, cutting)
    _check_places([sheet.path for sheet in sheets], cutting, output)
    _check_room(view, sheets, output)
    run = SheetRun.of(given, where, output, cutting, [sheet.path for sheet in sheets])
    kept = {sheet.path for sheet in sheets if run.stands(sheet.path) and _sound(sheet, view)}
    known = [sheet for sheet in sheets if not run.has_found_empty(sheet.path)]
    if not output.dry_run:
        run.tell()
    done = made_sheets(view, known, kept, output, cutting)
    if not output.dry_run:
        made = {sheet.path for sheet, _ in done}
        run.tell([sheet.path for sheet in sheets if sheet.path not in made])
    if cutting.index and not output.dry_run:
        _write_index(Path(cutting.index), view.frame, done, output)
    largest = max(sheets, key=lambda sheet: sheet.pane.size).pane
    cut = fact("sheets_of", sheets=len(sheets), columns=largest.columns, rows=largest.rows)
    margins = (fact("sheet_margin", margin=cutting.margin),) if cutting.margin else ()
    empty, paths = len(sheets) - len(done), tuple(layer.path for layer in layers)
    return Receipt(
        "tile",
        paths,
        output.out,
        planned=output.dry_run,
        touched=paths,
        frame=target.frame,
        chose=distinct((cut, *fitted, *margins, *chose)),
        checks=() if output.dry_run else left_out(empty, len(kept)),
        results=(_folder([result for _, result in done if result.out not in kept], output),),
        products={"index": Path(cutting.index)} if cutting.index else {},
        own={
            "sheets": [{**sheet.facts, "path": str(sheet.path)} for sheet, _ in done],
            "empty": empty,
            "kept": len(kept),
        },
    )


def _folder(written: Sequence[Result], output: Output) -> Result:
    """All sheets as one result."""
    most = sum(result.bytes_at_most or 0 for result in written)
    size = None if output.dry_run else sum(result.bytes or 0 for result in written)
    return Result(output.path, size, most, files=len(written), seconds=output.seconds)


def _check_places(paths: Sequence[Path], cutting: Cutting, output: Output) -> None:
    """Raise RefusedError if a sheet, or the index, may not be put where it is to be."""

    if output.dry_run:
        return
    for path in paths:
        check_free(path, output.replace or cutting.resume)
    if cutting.index:
        results.tables.check_target(Path(cutting.index), output)


def _check_room(view: Raster, sheets: Sequence[Sheet], output: Output) -> None:
    """Raise RefusedError if all sheets together are past the ceiling or the free space."""
    whole = Frame(view.frame.crs, view.frame.affine, sum(sheet.pane.size for sheet in sheets), 1)
    Plan(whole, view.bands, output.path).check(output.ceiling_bytes, output.command)


def _sound(sheet: Sheet, view: Raster) -> bool:
    """Whether the file of a sheet that stands is whole, and of the same frame and bands."""
    try:
        with readings.aside():
            there = open_raster(sheet.path)
        if there.frame != view.frame.crop(sheet.pane) or len(there.bands) != len(view.bands):
            return False
        if shared_type(there.bands) != shared_type(view.bands):
            return False
        for pane in blocks_of(there):
            there.cells(pane)
    except ZembrelError:
        return False
    return True


def _write_index(path: Path, frame: Frame, done: Sequence[Done], output: Output) -> None:

    results.tables.write_layer(path, _index_table(path, frame, done), output)


def _index_table(path: Path, frame: Frame, done: Sequence[Done]) -> features.table.FeatureTable:
    """Outlines of the sheets with their margins, and what they are; paths as seen from the index."""
    import shapely

    shapes = [shapely.box(*frame.bounds_of(sheet.pane)) for sheet, _ in done]
    rows = [
        {"path": os.path.relpath(sheet.path, path.parent), **sheet.facts, "bytes": result.bytes}
        for sheet, result in done
    ]
    return features.table.FeatureTable.of(shapes, rows, frame.crs or by_code(4326))
