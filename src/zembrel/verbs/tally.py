"""tally: features or cells counted and summed up per zone or per cell of a frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.engine.limits import stage
from zembrel.engine.run import observe
from zembrel.errors import EmptyInputError, InputError, RefusedError, UsageError
from zembrel.facts import Fact, distinct, fact
from zembrel.features.files.catalogue import is_features
from zembrel.features.ground import within_reach
from zembrel.features.inside import tallied
from zembrel.features.percell import per_cell
from zembrel.features.reached import discs
from zembrel.features.scanned import Scanned, outlines
from zembrel.features.stats import SPELT, Stat, parse_stats
from zembrel.features.table import FeatureTable
from zembrel.features.zonal import ZoneSums, ZoneValues, joined, ranked, zone_outlines
from zembrel.formats import readable
from zembrel.geodesy.crs import CRS, label
from zembrel.grid.frame import Frame
from zembrel.inputs.framing import check_meets, frame_for
from zembrel.inputs.intake import Given, take
from zembrel.inputs.layers import Layer, check_resolved, open_layers
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.tables import beside
from zembrel.inputs.within import asked_crs
from zembrel.measure import parse_length, show_number
from zembrel.optiontext import OptionText
from zembrel.raster.model import Band, Raster
from zembrel.raster.passing import blocks_of
from zembrel.raster.views.bands import select_bands, stack
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.eachtable import opened
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, write_layer
from zembrel.results.write import write
from zembrel.statistics import STATISTICS
from zembrel.verbtable.record import FEATURES, RASTERS

Columns = dict[str, npt.NDArray[np.float64]]
_MOST_CELLS = 1_000_000  # of a frame whose cells become polygons
_MOST_CLASSES = 256


@dataclass(frozen=True)
class Tallying:
    """What is summed up where: in polygons, in reach of lines and points, or else in cells of a frame."""

    zones: Annotated[str | None, OptionText("Areas to summarize; others need --reach.", "FEATURES")] = None
    stat: Annotated[
        tuple[str, ...],
        OptionText(f"{SPELT} (length and share for features only). Repeatable.", "NAME[:FIELD]"),
    ] = ()
    reach: Annotated[str | None, OptionText("Radius around zones, or around cell centres.", "LENGTH")] = None


def tally(inputs: Inputs, where: Where, output: Output, tallying: Tallying) -> Receipt:
    """Statistics of features or cells in each zone, as features, a table or a raster; or per cell of a frame.

    Raises UsageError for statistics that do not go with the inputs.
    """
    stats = parse_stats(tallying.stat)
    given = take(inputs, output, (RASTERS, FEATURES))
    if tallying.zones is None:
        if given.kind != FEATURES:
            raise UsageError(
                "there are no zones",
                "cells of a raster are summed up in some",
                "add --zones POLYGONS, or use resample",
            )
        return _per_cell(given, where, output, tallying, stats)
    origin, own, inputs = beside(tallying.zones, inputs)
    given = replace(given, options=inputs)
    zones, said = opened(origin, own, check=True)
    columns: Columns = {}
    if given.kind == FEATURES:
        crs = _working(zones, tallying, where)
        said += [fact("worked_in", crs=label(crs))] if tallying.reach else []
        areas = _areas(zones, tallying, crs)
        near = discs(zones.to(crs).geometries, parse_length(tallying.reach), crs) if tallying.reach else None
        for origin in given.origins:
            table, more = opened(origin, inputs, check=True)
            said += more
            found = tallied(table.to(crs), areas, stats, near)
            prefix = f"{origin.name.stem}_" if len(given.origins) > 1 else ""
            columns |= {prefix + stat.label: values for stat, values in found.items()}
    else:
        layers = open_layers(given)
        for layer in layers:
            columns |= _of_cells(layer, zones, tallying, stats, output, len(layers) > 1)
    said += [fact("reach", reach=tallying.reach)] if tallying.reach else []
    written = _written(zones, columns, where, output)
    empty = max((int(np.isnan(values).sum()) for values in columns.values()), default=0)
    some = fact("empty_zones", empty=empty, zones=len(zones)) if empty else fact("every_zone")
    return replace(
        written,
        inputs=given.paths,
        chose=distinct((*said, *written.chose)),
        checks=(some,),
        own={"zone_layer": tallying.zones, "zones": len(zones), "fields": list(columns), "empty": empty},
    )


def _working(zones: FeatureTable, tallying: Tallying, where: Where) -> CRS:
    """The CRS to work in: as asked, else that of the zones. Raises InputError if there is none."""
    crs = asked_crs(where) or zones.crs
    if crs is None:
        raise InputError(
            f"{tallying.zones} has no CRS", "zones have a place on the Earth", "add --from-crs CRS"
        )
    return crs


def _areas(zones: FeatureTable, tallying: Tallying, crs: CRS) -> Any:
    """Zones as areas in `crs`, grown by the reach. Raises UsageError for lines and points without one."""
    shapes = zones.to(crs).geometries
    if tallying.reach is None:
        thin = np.flatnonzero(shapely.get_dimensions(shapes) < 2)
        if thin.size:
            raise UsageError(
                f"feature {thin[0] + 1} of {tallying.zones} has no inside",
                "a zone is an area, or has a reach",
                "add --reach LENGTH",
            )
        return shapes
    return within_reach(shapes, parse_length(tallying.reach), crs)


def _of_cells(
    layer: Layer,
    zones: FeatureTable,
    tallying: Tallying,
    stats: Sequence[Stat],
    output: Output,
    several: bool,
) -> Columns:
    """Statistics of each band of a raster in each zone."""
    raster = unscaled(layer.raster)
    areas = _areas(zones, tallying, check_resolved(layer))
    bad = next((stat for stat in stats if stat.name in ("length", "share") or stat.field), None)
    if bad is not None:
        raise UsageError(
            f"--stat {bad.label} of cells",
            "it is one of features",
            "leave it out, or name a statistic of values",
        )
    columns: Columns = {}
    for n, band in enumerate(raster.bands):
        one = select_bands(raster, (n,))
        gathered = [stat for stat in stats if stat.name in STATISTICS and STATISTICS[stat.name].of_parts]
        rest = [stat for stat in stats if stat not in gathered]
        if band.legend is not None and any(STATISTICS[stat.name].averages for stat in gathered):
            raise RefusedError(
                f"{layer.path} holds codes of classes",
                "a mean of codes says nothing",
                "use --stat majority or histogram",
            )
        if band.dtype.kind == "f" and any(stat.name == "histogram" for stat in rest):
            raise UsageError(f"{layer.path} holds fractions", "a histogram counts classes", "use quartiles")
        legend = band.legend

        def called(value: float, legend: Any = legend) -> str:
            return (legend.name(int(value)) if legend is not None else "") or show_number(value)

        drawn = zone_outlines(areas, raster.frame)
        sums, values = ZoneSums(drawn, len(areas)), ZoneValues(drawn, len(areas))
        moments = [sums] if len(rest) < len(stats) else []
        observe(one, blocks_of(one), [*moments, *([values] if rest else [])], output.limits)
        held = [*stage(values.parts, joined, output.limits)] if rest else []
        found = ranked(held, rest, called, codes=legend is not None) if rest else {}
        if len(found) > _MOST_CLASSES:
            raise RefusedError(
                f"{layer.path} has {len(found):,} values", "each would be a field", "use quartiles"
            )
        prefix = f"{layer.path.stem}_" if several else ""
        prefix += f"{band.name}_" if len(raster.bands) > 1 else ""
        columns |= {prefix + s.label: sums.result(s.name) for s in gathered}
        columns |= {prefix + name: values for name, values in found.items()}
    return columns


def _written(zones: FeatureTable, columns: Columns, where: Where, output: Output) -> Receipt:
    """Zones with what was found, as a feature layer or a table, or drawn onto the cells of a frame."""
    out, planned = output.path, output.dry_run
    if readable(out) and not is_features(out):
        frame, chose = frame_for(zones, where)
        moved = zones.to(frame.crs)
        bands = tuple(_drawn(moved, frame, name, values) for name, values in columns.items())
        written = write(stack(bands), out, output)
        said, results = (*chose, *written.chose), (written.result,)
        return Receipt("tally", out=output.out, planned=planned, frame=frame, chose=said, results=results)
    check_target(out, output)
    if where.onto or where.cell:
        raise UsageError(
            "--onto and --cell bring the result onto cells",
            f"{out.name} is a feature file",
            "leave them out, or end --out in .tif",
        )
    held = {name: _plain(values) for name, values in columns.items()}
    layer = write_layer(out, replace(zones, columns={**zones.columns, **held}), output)
    result = replace(layer.result, what="zones", how=(", ".join(columns),))
    return Receipt("tally", out=output.out, planned=planned, chose=layer.notes, results=(result,))


def _plain(values: npt.NDArray[np.float64]) -> npt.NDArray[Any]:
    whole = (
        np.isfinite(values).all()
        and (values == np.round(values)).all()
        and np.abs(values).max(initial=0) < 2**53
    )
    return values.astype(np.int64) if whole else values


def _drawn(zones: FeatureTable, frame: Frame, name: str, values: npt.NDArray[np.float64]) -> Raster:
    known = ~np.isnan(values)
    drawn = outlines(zones.geometries[known], values[known], frame)
    return Scanned(frame, (Band(name, "float64"),), drawn, "last")


def _per_cell(
    given: Given, where: Where, output: Output, tallying: Tallying, stats: Sequence[Stat]
) -> Receipt:
    if len(given.origins) != 1:
        raise UsageError(
            f"tally counts one file of features per cell, not {len(given.origins)}",
            "bands would mix",
            "mosaic them first",
        )
    path = given.paths[0]
    table, said = opened(given.origins[0], given.options, check=True)
    if not len(table):
        raise EmptyInputError(f"{path} holds no feature", "there is nothing to count", "check --where")
    frame, chose = frame_for(table, where)
    reach = parse_length(tallying.reach) if tallying.reach else None
    moved = table.to(frame.crs)
    if reach is None:
        check_meets(moved, frame, output)
    bands = per_cell(moved, frame, stats, reach)
    if is_features(output.path):
        return _as_polygons(path, table, stack(tuple(bands)), output, [*chose, *said])
    written = write(stack(tuple(bands)), output.path, output)
    way = fact("features_within", reach=tallying.reach) if reach else fact("features_that_meet")
    return Receipt(
        "tally",
        (path,),
        output.out,
        planned=output.dry_run,
        frame=frame,
        chose=distinct((*chose, *said, way, *written.chose)),
        checks=(fact("features", features=len(table)), *written.checks),
        results=(written.result,),
        own={"features": len(table)},
    )


def _as_polygons(path: Path, table: FeatureTable, view: Raster, output: Output, chose: list[Fact]) -> Receipt:
    """The cells that something lies in as polygons, with a field for each statistic."""
    out, frame = output.path, view.frame
    check_target(out, output)
    if frame.size > _MOST_CELLS:
        raise RefusedError(
            f"{frame.size:,} cells as polygons",
            f"{_MOST_CELLS:,} can be",
            "choose a larger --cell, or end --out in .tif",
        )
    block = view.cells(frame.pane)
    kept = (np.stack([block.valid_of(n) for n in range(len(view.bands))]) & (block.cells != 0)).any(axis=0)
    rows, columns = np.nonzero(kept)
    corners = [
        frame.corners.at((columns + right).astype(float), (rows + down).astype(float))
        for right, down in ((0, 1), (1, 1), (1, 0), (0, 0))
    ]
    rings = np.stack([np.stack([np.asarray(x), np.asarray(y)], axis=1) for x, y in corners], axis=1)
    fields = {
        band.name: np.where(block.valid_of(n)[kept], block.cells[n][kept].astype(float), np.nan)
        for n, band in enumerate(view.bands)
    }
    fields = {name: v.astype(np.int64) if (v == np.round(v)).all() else v for name, v in fields.items()}
    cells = FeatureTable(np.asarray(shapely.polygons(rings), object), fields, frame.crs)
    written = write_layer(out, cells, output)
    return Receipt(
        "tally",
        (path,),
        output.out,
        planned=output.dry_run,
        frame=frame,
        chose=distinct((*chose, fact("cells_as_polygons"), *written.notes)),
        checks=(fact("features_in_cells", features=len(table), cells=len(cells), of=frame.size),),
        results=(written.result,),
        own={"features": len(table), "cells": len(cells)},
    )
