"""Figures of a raster for describe: statistics, classes and values at a point."""

from __future__ import annotations

from typing import Any

import numpy as np

from zembrel import features
from zembrel.engine.run import observe
from zembrel.errors import InputError, UsageError
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.operation import operation
from zembrel.grid.area import split_crs
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Output
from zembrel.measure import show_number
from zembrel.raster.passing import blocks_of
from zembrel.raster.survey import ClassCounts, Statistics
from zembrel.raster.views.around import on_turn
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.phrases import show_bounds

Rows = list[tuple[str, str]]


def add_statistics(layer: Layer, table: Rows, facts: dict[str, Any], output: Output) -> None:
    if layer.raster.bands[0].legend is not None and len(layer.raster.bands) == 1:
        _add_classes(layer, table, facts, output)
        return
    statistics = Statistics()
    observe(unscaled(layer.raster), blocks_of(layer.raster), [statistics], output.limits)
    for n, (band, tally) in enumerate(zip(layer.raster.bands, statistics.tallies, strict=True)):
        share = tally.cells / layer.raster.frame.size
        deviation = statistics.deviation(n)
        if tally.cells:
            ends = f"{show_number(tally.low)} to {show_number(tally.high)}"
            text = f"{ends}, mean {tally.mean:.6g}, deviation {deviation:.6g}"
        else:
            text = "nothing"
        table.append((band.name, f"{text}, {100 * share:.4g} % valid"))
        facts["bands"][n]["statistics"] = (
            {
                "min": tally.low,
                "max": tally.high,
                "mean": tally.mean,
                "deviation": deviation,
                "valid": tally.cells,
            }
            if tally.cells
            else {"valid": 0}
        )


def _add_classes(layer: Layer, table: Rows, facts: dict[str, Any], output: Output) -> None:
    """Cells of each class, their share of the valid ones and their area; a mean of codes says nothing."""
    frame, legend = layer.raster.frame, layer.raster.bands[0].legend
    assert legend is not None
    placed = frame.crs is not None and not isinstance(frame.crs, UnresolvedCRS)
    classes = ClassCounts((lambda pane: features.ground.cell_areas(frame, pane)) if placed else None)
    observe(layer.raster, blocks_of(layer.raster), [classes], output.limits)
    valid = classes.counts.total()
    for code, cells in sorted(classes.counts.items()):
        name = f"{code} {legend.name(code)}".rstrip()
        area = f", {classes.areas[code] / 10_000:,.6g} ha" if placed else ""
        table.append((name, f"{cells:,} cells, {100 * cells / valid:.4g} % of the valid ones{area}"))
    facts["bands"][0]["statistics"] = {
        "valid": valid,
        "classes": {str(code): cells for code, cells in sorted(classes.counts.items())},
    }
    if placed:
        hectares = {str(code): area / 10_000 for code, area in sorted(classes.areas.items())}
        facts["bands"][0]["statistics"]["hectares"] = hectares


def add_values(layer: Layer, at: str, table: Rows, facts: dict[str, Any]) -> None:
    raster, frame = layer.raster, layer.raster.frame
    numbers, crs = split_crs(at)
    try:
        x, y = (float(part) for part in numbers.split(","))
    except ValueError as exc:
        raise UsageError(f"--at {at}", "a point is needed", "write --at X,Y or --at X,Y@EPSG:4326") from exc
    found = _cell_at(frame, x, y, crs)
    if found is None:
        swapped = f"x comes first: did you mean {numbers.partition(',')[2]},{numbers.partition(',')[0]}?"
        raise InputError(
            f"{layer.path} does not reach {at}",
            f"it covers {show_bounds(frame)}",
            swapped if _cell_at(frame, y, x, crs) else "check the point and its CRS",
        )
    r, c = found
    block = unscaled(raster).cells(Pane(r, c, r + 1, c + 1))
    values = []
    for n, band in enumerate(raster.bands):
        value = block.cells[n, 0, 0].item() if block.valid_of(n)[0, 0] else None
        values.append(value)
        name = band.legend.name(int(value)) if band.legend and value is not None else ""
        shown = "nothing" if value is None else show_number(value)
        table.append((f"{band.name} there", shown + (f" ({name})" if name else "")))
    facts["at"] = {"point": at, "column": c, "row": r, "values": values}


def _cell_at(frame: Frame, x: float, y: float, crs: CRS | None) -> tuple[int, int] | None:
    """Row and column of the cell at a point, given in `crs` or in that of the frame; None outside."""
    px, py = np.array([x]), np.array([y])
    if crs is not None and frame.crs is not None:
        px, py = operation(crs, frame.crs)(px, py)
    cols, rows = frame.corners.position(px, py)
    col, row = float(on_turn(frame, np.asarray(cols))[0]), float(rows[0])
    return (int(row), int(col)) if 0 <= col < frame.columns and 0 <= row < frame.rows else None
