"""The frame that features are brought onto."""

from __future__ import annotations

import shapely

from zembrel.errors import EmptyResultError, InputError, UsageError
from zembrel.facts import Fact, fact
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Frame, holding, snapped
from zembrel.inputs.lengths import cell_in_units_of
from zembrel.inputs.options import Output, Where
from zembrel.inputs.target import by_longest
from zembrel.inputs.within import asked_crs, asked_frame


def frame_for(table: FeatureTable, where: Where) -> tuple[Frame, list[Fact]]:
    """The frame to draw on: a given one, or the extent of the features in cells of the asked size."""
    frame = asked_frame(where)
    if frame is not None:
        if where.crs or where.cell:
            raise UsageError(
                "--onto excludes --crs and --cell", "the frame says both", "leave out one or the other"
            )
        if frame.crs is None:
            raise InputError(
                f"{where.onto} has no CRS", "features have a place on the Earth", "give it one with label"
            )
        return frame, [fact("onto", onto=where.onto)]
    if not where.cell and not where.longest:
        raise UsageError(
            "there is no frame",
            "features have no cells of their own",
            "add --onto FRAME, --cell LENGTH or --longest N",
        )
    crs: CRS | None = asked_crs(where) or table.crs
    if crs is None:
        raise InputError("the features have no CRS", "cells have a place on the Earth", "add --from-crs CRS")
    shapes = table.to(crs).geometries
    west, south, east, north = (float(v) for v in shapely.total_bounds(shapes))
    thin = bool((shapely.get_dimensions(shapes) < 2).any())
    if where.longest:
        room = max(east - west, north - south) / max(where.longest - 1, 1) / 2 if thin else 0.0
        grown = west - room, south - room, east + room, north + room
        return by_longest(crs, grown, where), [fact("extent_of", what="features")]
    cell = cell_in_units_of(str(where.cell), crs)
    make = holding if thin else snapped
    return make(crs, (west, south, east, north), cell), [fact("extent_of", what="features")]


def check_meets(table: FeatureTable, frame: Frame, output: Output) -> None:
    """Raise RefusedError if no feature of `table`, in the frame's CRS, comes near `frame`."""
    west, south, east, north = shapely.total_bounds(table.geometries).tolist()
    left, bottom, right, top = frame.bounds
    if not (west <= right and east >= left and south <= top and north >= bottom) and not output.keep_empty:
        raise EmptyResultError(
            "no feature lies on the frame",
            f"they cover {west:.10g},{south:.10g},{east:.10g},{north:.10g}, "
            f"the frame {left:.10g},{bottom:.10g},{right:.10g},{top:.10g}",
            "check --onto and the CRS of both, or add --keep-empty",
        )
