"""frame: make, show and save a frame."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from zembrel.engine.commit import Staging
from zembrel.errors import UsageError
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code, fitting_at
from zembrel.grid.frame import Affine, Frame, snapped
from zembrel.grid.framefile import ENDING, write_frame
from zembrel.inputs.layers import take_layers
from zembrel.inputs.lengths import cell_in_units_of
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import decide
from zembrel.inputs.within import area_crs, asked_crs, resolve
from zembrel.optiontext import OptionText
from zembrel.results.receipt import Receipt, Result

FIT = "fit"  # for --crs: the one that suits the area


def frame(
    inputs: Inputs,
    where: Where,
    output: Output,
    *,
    columns: Annotated[
        int | None, OptionText("Number of columns; with --rows, instead of --cell.", "N")
    ] = None,
    rows: Annotated[int | None, OptionText("Number of rows.", "N")] = None,
    origin: Annotated[str | None, OptionText("A point of the lattice. Default: 0,0.", "X,Y")] = None,
    registration: Annotated[
        str | None, OptionText("Whether a value belongs to a cell or to a node.", "cell|node")
    ] = None,
) -> Receipt:
    """A frame from rasters, or from an area with a cell size or a number of columns and rows.

    origin: `X,Y` on the lattice. Raises UsageError if that does not settle the frame.
    """
    made = (
        _from_rasters(inputs, where, output)
        if inputs.inputs or inputs.inputs_from
        else _from_area(where, columns, rows, origin, registration or "cell")
    )
    if registration and made.registration != registration:
        made = replace(made, registration=registration)
    text = write_frame(made)
    if output.out is None:
        return Receipt("frame", frame=made, data=text)
    out = output.path
    if not out.name.endswith(ENDING):
        raise UsageError(
            f"{out.name} is no frame file name", "other commands know it by its ending", f"end it in {ENDING}"
        )
    if not output.dry_run:
        with Staging(output.replace) as staging:
            staging.write_text(out, text)
            staging.publish()
    result = Result(out, len(text.encode()))
    return Receipt("frame", out=output.out, planned=output.dry_run, frame=made, results=(result,))


def _from_rasters(inputs: Inputs, where: Where, output: Output) -> Frame:
    return decide(take_layers(inputs, output), where).frame


def _from_area(
    where: Where, columns: int | None, rows: int | None, origin: str | None, registration: str
) -> Frame:
    if where.onto:
        return decide([], where).frame
    own = area_crs(where.within) if where.within and not where.crs else None
    if not where.within or not (where.crs or own):
        raise UsageError(
            "a frame needs a place",
            "neither a raster nor an area with a CRS is given",
            "add --within AREA --crs CRS",
        )
    crs = own or (_fitting(where) if where.crs == FIT else asked_crs(where))
    bounds = resolve(where, crs).bounds
    if columns or rows:
        if not (columns and rows) or where.cell or origin or min(columns, rows) < 1:
            raise UsageError(
                "--columns and --rows go together",
                "they settle the cell size",
                "give both, and neither --cell nor --origin",
            )
        west, south, east, north = bounds
        steps = (columns - 1, rows - 1) if registration == "node" else (columns, rows)
        affine = Affine(west, north, (east - west) / max(steps[0], 1), -(north - south) / max(steps[1], 1))
        return Frame(crs, affine, columns, rows, registration)
    if not where.cell:
        raise UsageError(
            "a frame needs a cell size",
            "the area alone does not settle it",
            "add --cell 2m, or --columns and --rows",
        )
    cell = cell_in_units_of(where.cell, crs)
    return snapped(crs, bounds, cell, origin=_point(origin), registration=registration)


def _fitting(where: Where) -> CRS:
    """The one that suits the area."""
    west, south, east, north = resolve(where, by_code(4326)).bounds
    return fitting_at((west + east) / 2, (south + north) / 2)


def _point(origin: str | None) -> tuple[float, float]:
    if origin is None:
        return 0.0, 0.0
    try:
        x, y = (float(part) for part in origin.split(","))
    except ValueError as exc:
        raise UsageError(
            f"--origin {origin}", "a point of the lattice is needed", "write --origin X,Y"
        ) from exc
    return x, y
