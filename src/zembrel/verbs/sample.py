"""sample: values of rasters at points."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.engine.limits import each
from zembrel.errors import EmptyInputError, InputError, RefusedError, UsageError
from zembrel.facts import distinct, fact, remarks
from zembrel.features.columns import Column, column
from zembrel.features.ground import reaches
from zembrel.features.table import FeatureTable
from zembrel.inputs.layers import Layer, check_resolved, take_layers
from zembrel.inputs.options import Inputs, Output
from zembrel.inputs.tables import beside, open_table
from zembrel.measure import parse_length
from zembrel.optiontext import OptionText
from zembrel.raster.method import Method, parse_method
from zembrel.raster.model import Raster
from zembrel.raster.sampling import Places, values_at
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, write_layer


def sample(
    inputs: Inputs,
    output: Output,
    *,
    at: Annotated[str | None, OptionText("Point file with the places to sample.", "POINTS")] = None,
    method: Annotated[
        str,
        OptionText(
            "auto, nearest, bilinear, cubic, lanczos, mean, mode, min, max, median, sum or percentile:25.",
            "NAME",
        ),
    ] = "auto",
    reach: Annotated[str | None, OptionText("Radius around a point for statistics.", "LENGTH")] = None,
) -> Receipt:
    """Points with a field for each band of each raster; missing where that has nothing.

    at: a file of points; reach: how far around a point a statistic looks. Raises InputError for other
    geometries, RefusedError for averages of codes.
    """
    out = output.path
    check_target(out, output)
    if at is None:
        raise UsageError("there are no points", "sample looks up values at some", "add --at POINTS")
    origin, own, inputs = beside(at, inputs)
    layers = take_layers(replace(inputs, condition=None, fields=None), output)
    points = open_table(origin, replace(own, condition=inputs.condition, fields=inputs.fields))
    _check_points(at, points)
    columns, missing, chose = dict(points.columns), 0, []
    for layer in layers:
        crs = check_resolved(layer)
        raster = unscaled(layer.raster)
        way = _method(layer, method, reach)
        moved = points.to(crs).geometries
        x, y = shapely.get_x(moved), shapely.get_y(moved)
        around = reaches(parse_length(reach), crs, x, y) if reach else np.zeros((2, x.size))
        values, known = values_at(raster, x, y, way, around, over_places(raster, output))
        missing += int((~known.any(axis=0)).sum())
        _add(columns, layer, raster, values, known, way)
        chose.append(fact("sampled", layer=layer.path.stem, way=str(way), reach=reach))
    table = FeatureTable(points.geometries, columns, points.crs)
    written = write_layer(out, table, output)
    checks = [fact("values_missing", values=missing)] if missing else [fact("all_have_values")]
    return Receipt(
        "sample",
        tuple(layer.path for layer in layers),
        output.out,
        planned=output.dry_run,
        chose=distinct((*remarks(points.remarks), *chose, *written.notes)),
        checks=tuple(checks),
        results=(replace(written.result, what="points"),),
        own={"at": at, "features": len(table), "missing": missing, "fields": list(columns)},
    )


def over_places(raster: Raster, output: Output) -> Any:
    """The engine's way of applying a task to places of `raster`."""
    cell = sum(band.dtype.itemsize for band in raster.bands)

    def over(task: Any, places: Sequence[Places]) -> Any:
        widest = max((part.pane.size for part in places), default=0)
        return each(
            places, task, output.limits, size=lambda part: part.numbers.size, item_bytes=widest * cell
        )

    return over


def _check_points(at: str, table: FeatureTable) -> None:
    if not len(table):
        raise EmptyInputError(f"{at} holds no feature", "there is nowhere to look", "name another file")
    other = np.flatnonzero(shapely.get_type_id(table.geometries) != 0)
    if other.size:
        kind = table.geometries[other[0]]
        raise InputError(
            f"{at} holds other things than points",
            f"feature {other[0] + 1} is {kind.geom_type.lower() if kind is not None else 'nowhere'}",
            "pick points with --where; tally summarizes cells in areas",
        )


def _method(layer: Layer, name: str, reach: str | None) -> Method:
    """The method for a raster. Raises RefusedError for averages of codes, UsageError for an idle reach."""
    bands = layer.raster.bands
    coded = any(band.legend is not None for band in bands)
    if name == "auto":
        name = "nearest" if not reach else "mode" if coded else "mean"
    method = parse_method(name)
    if reach and not method.footprint:
        raise UsageError(
            f"--reach with {method}",
            "it looks at the cells right around a point",
            "use --method mean, or leave it out",
        )
    if coded and method.averages and method.name not in ("median", "percentile"):
        raise RefusedError(
            f"{layer.path} holds codes of classes", f"{method} would average them", "use nearest or mode"
        )
    return method


def _add(
    columns: dict[str, Column],
    layer: Layer,
    raster: Raster,
    values: npt.NDArray[np.float64],
    known: npt.NDArray[np.bool_],
    method: Method,
) -> None:
    """A field for each band, and one for the names of classes."""
    stem = layer.path.stem
    for n, band in enumerate(raster.bands):
        name = _free(stem if len(raster.bands) == 1 else f"{stem}_{band.name}", columns)
        whole = band.dtype.kind in "iu" and method.name in ("nearest", "mode", "min", "max")
        held = [
            (int(v) if whole else float(v)) if ok else None
            for v, ok in zip(values[n].tolist(), known[n], strict=True)
        ]
        columns[name] = column(held)
        if band.legend is not None and band.legend.named:
            legend = band.legend
            names = [None if v is None else legend.name(int(v)) for v in held]
            columns[_free(f"{name}_name", columns)] = column(names)


def _free(name: str, taken: dict[str, Column]) -> str:
    number, free = 1, name
    while free in taken:
        number += 1
        free = f"{name}_{number}"
    return free
