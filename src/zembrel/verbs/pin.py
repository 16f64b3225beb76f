"""pin: place a scanned map by tie points."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from zembrel.engine.commit import Staging
from zembrel.errors import UsageError
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.formats import identify
from zembrel.formats.tiesfile import COLUMNS, read_ties
from zembrel.formats.tiff.ties import tie_points
from zembrel.geodesy.crs import CRS, GeographicCRS
from zembrel.grid.area import check_bounds
from zembrel.grid.frame import Affine, Frame, snapped
from zembrel.grid.pinning import PinFit, Pinning, Ties, check_model, judged, pinned
from zembrel.inputs.layers import Layer, take_layers
from zembrel.inputs.lengths import cell_in_units_of
from zembrel.inputs.methods import MethodName, choose_method
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import area_remarks
from zembrel.inputs.within import asked_crs, asked_frame
from zembrel.optiontext import OptionText
from zembrel.raster.model import Raster
from zembrel.raster.views.pinned import pin as pin_view
from zembrel.raster.views.place import Reframed
from zembrel.results.csvtext import csv_text
from zembrel.results.phrases import show_table, unit_sign
from zembrel.results.receipt import Receipt
from zembrel.results.write import write

_EDGE = 64  # places along each edge of the picture that are carried to find its extent


@dataclass(frozen=True)
class Pins:
    """ties: a CSV file with `column,row,x,y[,name]`; model: how the picture may be bent; table: residuals."""

    ties: Annotated[
        str | None, OptionText("Tie points: column,row,x,y[,name]. Default: those in the file.", "CSV")
    ] = None
    model: Annotated[
        str | None,
        OptionText("affine, polynomial2, polynomial3 or spline. Default: by the number of points.", "NAME"),
    ] = None
    table: Annotated[
        str | None, OptionText("Write the residual and leave-one-out error of each point.", "CSV")
    ] = None
    method: MethodName = "auto"


def pin(inputs: Inputs, where: Where, output: Output, pins: Pins) -> Receipt:
    """Place one picture on a frame by tie points: columns and rows count from its upper left corner.

    Without a model: affine for up to 5 points, a polynomial of second order from 8, a spline from 15.
    Raises InputError where points do not determine the model, UsageError without points or a CRS.
    """
    layers = take_layers(inputs, output)
    if len(layers) != 1:
        raise UsageError(f"pin places one picture, not {len(layers)}", "each has its own ties", "name one")
    layer = layers[0]
    ties = read_ties(Path(pins.ties)) if pins.ties else _own_ties(layer)
    model = pins.model or _fitting_model(len(ties.names))
    check_model(model)
    pinning, fit = pinned(ties, model), judged(ties, model)
    frame = _frame(layer.raster, ties, model, where)
    method, why = choose_method(pins.method, _placed(layer.raster, ties, frame), frame, where.average_codes)
    view = pin_view(layer.raster, frame, pinning, str(method))
    written = write(view, output.path, output)
    rows = _rows(ties, fit, pinning, frame)
    if pins.table and not output.dry_run:
        _write_table(Path(pins.table), rows, output)
    chose = [
        fact("pin_model", model=model, points=len(ties.names)),
        fact("method", method=method, why=why),
        *_off_its_place(frame),
        *written.chose,
    ]
    return Receipt(
        "pin",
        (layer.path,),
        output.out,
        planned=output.dry_run,
        frame=frame,
        chose=distinct(chose),
        checks=(*_judgement(ties, fit, frame, pinning), *written.checks),
        results=(written.result,),
        products={"table": Path(pins.table)} if pins.table else {},
        own={
            "model": model,
            "points": [dict(zip(_HEADER, row, strict=True)) for row in rows],
            "suspect": None if fit.suspect is None else ties.names[fit.suspect],
        },
        data=_shown(rows, frame),
    )


def _off_its_place(frame: Frame) -> list[Fact]:
    """A word on a picture outside of the area where its CRS is used, and whether x and y were exchanged."""
    said = area_remarks(frame)
    if not said:
        return []
    west, south, east, north = frame.bounds
    exchanged = snapped(frame.crs, (south, west, north, east), frame.cell)
    return [*remarks(said), *([] if area_remarks(exchanged) else [fact("ties_exchanged")])]


def _own_ties(layer: Layer) -> Ties:
    """Those that the file itself holds. Raises UsageError if there are none."""
    found = tie_points(layer.origin.place) if identify(layer.origin) == "geotiff" else np.empty((0, 4))
    if len(found) < 3:
        raise UsageError(
            f"there are no tie points for {layer.path}",
            "the file itself holds none",
            "add --ties ties.csv with column,row,x,y on each line",
        )
    return Ties(found[:, 2:], found[:, :2], tuple(str(n) for n in range(1, len(found) + 1)))


def _fitting_model(count: int) -> str:
    return "affine" if count < 8 else "polynomial2" if count < 15 else "spline"


def _frame(picture: Raster, ties: Ties, model: str, where: Where) -> Frame:
    """The asked frame, or the smallest north-up one that holds the whole picture at its resolution."""
    frame = asked_frame(where)
    if frame is not None:
        return frame
    crs = _crs(picture, where)
    columns, rows = picture.frame.columns, picture.frame.rows
    way, end = np.linspace(0, 1, _EDGE), np.ones(_EDGE)
    col = np.concatenate([way, end, way, 0 * end]) * columns
    row = np.concatenate([0 * end, way, end, way]) * rows
    (west, south), (east, north) = ties.ground.min(axis=0).tolist(), ties.ground.max(axis=0).tolist()
    check_bounds((west, south, east, north), crs)
    if isinstance(crs, GeographicCRS) and max(-south, north) > 90 / crs.unit.factor:
        raise UsageError(
            f"the ties reach from y {south:.10g} to {north:.10g}",
            f"latitudes of {crs.name} end at the poles",
            "give with --crs what x and y are in",
        )
    back = pinned(ties.reversed(), model)
    x, y = back(col, row)
    bounds = float(x.min()), float(y.min()), float(x.max()), float(y.max())
    if where.cell:
        cell = cell_in_units_of(where.cell, crs)
    else:
        size = _native(ties)
        cell = size, size
    return snapped(crs, bounds, cell)


def _crs(picture: Raster, where: Where) -> CRS:
    crs = asked_crs(where) or picture.frame.crs
    if crs is None:
        raise UsageError(
            "nobody says which CRS the ties are in", "x and y have no place without it", "add --crs CRS"
        )
    return crs


def _placed(picture: Raster, ties: Ties, frame: Frame) -> Raster:
    """The picture with cells as large as they are on the ground, whatever its place."""
    size = _native(ties)
    own = Frame(frame.crs, Affine(0.0, 0.0, size, -size), picture.frame.columns, picture.frame.rows)
    return Reframed(picture, own)


def _native(ties: Ties) -> float:
    """Ground units of one cell of the picture, of the best affine; to three digits."""
    plane = np.column_stack([np.ones(len(ties.names)), ties.picture])
    slopes = np.linalg.lstsq(plane, ties.ground, rcond=None)[0][1:]
    size = float(np.sqrt(abs(np.linalg.det(slopes))))
    return float(f"{size:.3g}")


_HEADER = ("name", *COLUMNS, "residual_cells", "left_out_cells")


def _rows(ties: Ties, fit: PinFit, pinning: Pinning, frame: Frame) -> list[list[Any]]:
    return [
        [
            name, *picture, *ground, residual, None if np.isnan(missed) else missed,
        ]
        for name, picture, ground, residual, missed in zip(
            ties.names, ties.picture.tolist(), ties.ground.tolist(), fit.residuals.tolist(),
            fit.left_out.tolist(), strict=True,
        )
    ]  # fmt: skip


def _shown(rows: Sequence[Sequence[Any]], frame: Frame) -> str:
    """The points as a table: residual and leave-one-out error in cells of the picture."""
    table = [["point", "column", "row", "x", "y", "residual (cells)", "left out (cells)"]]
    for name, column, row, x, y, residual, left_out in rows:
        missed = "-" if left_out is None else f"{left_out:.2f}"
        table.append(
            [str(name), f"{column:.2f}", f"{row:.2f}", f"{x:.10g}", f"{y:.10g}", f"{residual:.2f}", missed]
        )
    return show_table(table)


def _judgement(ties: Ties, fit: PinFit, frame: Frame, pinning: Pinning) -> list[Fact]:
    size, unit = _native(ties), unit_sign(frame.crs)
    rms = float(np.sqrt((fit.residuals**2).mean()))
    said = [fact("pin_residuals", rms=rms, size=rms * size, unit=unit, worst=fit.residuals.max())]
    if pinning.model == "spline":
        said = [fact("pin_exact")]
    known = fit.left_out[np.isfinite(fit.left_out)]
    if known.size:
        said.append(fact("pin_left_out", cells=float(np.sqrt((known**2).mean()))))
    else:
        said.append(fact("pin_unproved"))
    if fit.suspect is not None:
        said.append(fact("pin_suspect", point=ties.names[fit.suspect], cells=fit.left_out[fit.suspect]))
    return said


def _write_table(path: Path, rows: Sequence[Sequence[Any]], output: Output) -> None:

    with Staging(output.replace) as staging:
        staging.write_text(path, csv_text(_HEADER, rows))
        staging.publish()
