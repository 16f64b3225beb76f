"""grid: points to the cells of a frame."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Annotated, Any

import numpy as np

from zembrel.engine.points import pieces_of
from zembrel.errors import EmptyInputError, InputError, UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.geodesy.crs import metres_per_unit
from zembrel.grid.frame import Frame, holding, snapped
from zembrel.inputs.clouds import picking
from zembrel.inputs.intake import take
from zembrel.inputs.lengths import cell_in_units_of, in_cells
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import masked
from zembrel.inputs.within import asked_frame, resolve
from zembrel.optiontext import OptionText
from zembrel.points.files.catalogue import format_of
from zembrel.points.gridding.spool import Spool
from zembrel.points.gridding.statistic import PointStatistic, bands_of, parse_statistic
from zembrel.points.gridding.surfaced import (
    PRODUCTS,
    InverseDistance,
    Make,
    Products,
    Ranked,
    Surfaced,
    Triangles,
)
from zembrel.points.gridding.tallied import Tallied
from zembrel.points.model import PointBlock
from zembrel.points.picking import Picking
from zembrel.progress import Tick, no_tick
from zembrel.raster.model import Band, Raster
from zembrel.raster.views.fill import Filled
from zembrel.results.cloudreading import Counted, Points, is_first, is_ground, named_value, needs_of
from zembrel.results.clouds import Sieve
from zembrel.results.mergedclouds import Merged, merged
from zembrel.results.phrases import unit_sign
from zembrel.results.receipt import PointTotals, Receipt
from zembrel.results.write import write
from zembrel.verbtable.record import POINTS

_SURFACES = ("tin", "idw")
_SPACINGS = 5  # mean spacings of points that a surface bridges, if nobody says
_NEIGHBOURS = 3  # mean spacings along a side of the cells in which spikes are looked for


@dataclass(frozen=True)
class Gridding:
    """What is made: statistics, a surface (`tin`, `idw`), or products.

    fill: how large voids may be that are closed; spikes: how far a point may stand out from those around it.
    """

    stat: Annotated[
        tuple[str, ...],
        OptionText(
            "Statistic of the points in a cell: min, max, mean, sum, median, percentile:90, "
            "count or density; mean:intensity uses another value. Repeatable, a band each. Default: mean.",
            "NAME[:VALUE]",
        ),
    ] = ()
    surface: Annotated[
        str | None, OptionText("Interpolate between points: tin (triangles) or idw (weighted means).", "NAME")
    ] = None
    products: Annotated[
        str | None, OptionText("Bands to write from one pass: terrain,surface,canopy.", "LIST")
    ] = None
    fill: Annotated[
        str | None, OptionText("Fill gaps up to this radius; larger gaps stay nodata.", "CELLS|LENGTH")
    ] = None
    spikes: Annotated[
        str | None, OptionText("Drop points this far above or below their neighbours.", "METRES")
    ] = None


def grid(inputs: Inputs, where: Where, output: Output, gridding: Gridding) -> Receipt:
    """Points onto the cells of a frame. Raises UsageError or InputError."""
    _check(gridding)
    given = take(inputs, output, (POINTS,))
    if format_of(output.path) is not None and not output.format:
        raise UsageError(
            f"{output.path} is the name of a point file", "grid makes cells", "name a raster: out.tif"
        )
    frame_given = asked_frame(where)
    whole = merged(given, where, output, everywhere=True)
    frame, more = _frame(whole, where, frame_given)
    job = _Job(whole, frame, picking(inputs), gridding, output, Counted(), not (where.within or where.onto))
    view = job.view()
    if where.mask and where.within:
        view = masked(view, resolve(where, frame.crs).cover(frame))
    written = write(view, output.path, output)
    counted = job.counted
    lies = (fact("points_outside_header", points=counted.outside),) if counted.outside else ()
    return Receipt(
        "grid",
        given.paths,
        output.out,
        planned=output.dry_run,
        frame=written.view.frame,
        points=PointTotals(whole.count if output.dry_run else counted.used, whole.count),
        chose=distinct((*more, *whole.chose, *counted.chose, *written.chose)),
        checks=(*lies, *written.checks),
        results=(written.result,),
        own={"points": whole.count, "used": counted.used, "outside": counted.outside},
    )


def _check(gridding: Gridding) -> None:
    if (gridding.fill or "").startswith("-"):
        raise UsageError(f"--fill {gridding.fill}", "a void has a size", "give 0 or more")
    ways = [way for way in (gridding.stat, gridding.surface, gridding.products) if way]
    if len(ways) > 1:
        raise UsageError(
            "several ways to make cells", "a file is made in one", "give --stat, --surface or --products"
        )
    if gridding.surface and gridding.surface not in _SURFACES:
        raise UsageError(
            f"--surface {gridding.surface}",
            "surfaces are made in two ways",
            nearest_name(gridding.surface, _SURFACES),
        )
    for name in (gridding.products or "").split(",") if gridding.products else ():
        if name not in PRODUCTS:
            raise UsageError(
                f"--products {gridding.products}", f"there is no {name!r}", nearest_name(name, PRODUCTS)
            )


def _frame(whole: Merged, where: Where, given: Frame | None) -> tuple[Frame, list[Fact]]:
    """The frame of the result, north up. Raises UsageError."""
    if given is not None:
        if where.crs or where.cell:
            raise UsageError(
                "--onto excludes --crs and --cell", "the frame says both", "leave out one or the other"
            )
        if not given.north_up:
            raise UsageError(
                f"{where.onto} is turned", "points go onto frames that are north up", "give another frame"
            )
        return given, [fact("onto", onto=where.onto)]
    if not where.cell:
        raise UsageError("there is no frame", "points have no cells", "add --onto FRAME, or --cell LENGTH")
    cell = cell_in_units_of(where.cell, whole.crs)
    if where.within:
        return snapped(whole.crs, resolve(where, whole.crs).bounds, cell), []
    west, south, _, east, north, _ = whole.bounds
    if west > east or south > north:
        raise InputError(
            "there is no ground to grid",
            "the files say that they hold no point",
            "check --where and --classes",
        )
    return holding(whole.crs, (west, south, east, north), cell), [fact("extent_of", what="points")]


@dataclass(frozen=True, eq=False)
class _Job:
    """A frame to be filled with what is made of clouds."""

    whole: Merged
    frame: Frame
    picked: Picking
    gridding: Gridding
    output: Output
    counted: Counted
    whole_extent: bool  # whether the frame is the extent that the files say

    @property
    def area(self) -> float:
        """Square metres of a cell in the middle of the frame."""
        crs = self.frame.crs
        middle = (self.frame.bounds[1] + self.frame.bounds[3]) / 2
        across, along = metres_per_unit(crs, middle) if crs is not None else (1.0, 1.0)
        return self.frame.cell[0] * self.frame.cell[1] * across * along

    @property
    def spacing(self) -> float:
        """Mean distance of points, in cells."""
        box = self.whole.bounds
        ground = (box[3] - box[0]) * (box[4] - box[1]) / (self.frame.cell[0] * self.frame.cell[1])
        return math.sqrt(max(ground, 1e-9) / max(self.whole.count, 1))

    def view(self) -> Raster:
        """The raster that is asked for."""
        g = self.gridding
        wanted = tuple(parse_statistic(text) for text in g.stat) or (PointStatistic("mean"),)
        if g.products or g.surface:
            return self._surface()
        values = sorted({w.value for w in wanted if not w.counts})
        if any(w.ranked for w in wanted) or g.spikes:
            margin = 0.0
            names = sorted({*values, "z"}) if g.spikes else values
            spool = self._spooled(margin, {name: named_value(name) for name in names})
            view: Raster = Surfaced(
                spool, bands_of(wanted), Ranked(wanted, self.area), margin, self._spikes()
            )
        else:
            self._check_any()
            view = Tallied(self.frame, wanted, self._points(frozenset(values)), self.area)
        return self._closed(view)

    def _closed(self, view: Raster) -> Raster:
        if not self.gridding.fill:
            return view
        reach = max(in_cells(self.gridding.fill, self.frame))
        self.counted.chose.append(fact("voids_closed_within", reach=self.gridding.fill))
        return Filled(view, reach)

    def _surface(self) -> Raster:
        g = self.gridding
        if g.fill:
            reach = max(in_cells(g.fill, self.frame))
            said = fact("bridged_within", reach=g.fill)
        else:
            reach = max(_SPACINGS * self.spacing, 2.0)
            length = f"{reach * self.frame.cell[0]:.3g} {unit_sign(self.frame.crs)}"
            said = fact("reach_of_spacings", reach=length, spacings=_SPACINGS)
        self.counted.chose.append(said)
        bands, make = self._made(reach)
        values = {"z": named_value("z")}
        if g.products:
            values |= {"ground": is_ground, "first": is_first}
        margin = reach if g.surface == "idw" else 2 * reach + 1
        spool = self._spooled(margin, values)
        if g.products and not self.counted.ground:
            raise EmptyInputError(
                "no point is ground",
                "none of class 2 was found",
                "find them with ground first, or check --classes",
            )
        return Surfaced(spool, bands, make, margin, self._spikes())

    def _made(self, reach: float) -> tuple[tuple[Band, ...], Make]:
        if self.gridding.products:
            names = tuple(self.gridding.products.split(","))
            return tuple(Band(name, "float32") for name in names), Products(names, reach)
        make: Make = Triangles(reach) if self.gridding.surface == "tin" else InverseDistance(reach)
        return (Band("height", "float32"),), make

    def _spikes(self) -> tuple[float, float] | None:
        """The neighbourhood in which spikes are looked for, in cells, and how far a point may stand out."""
        if not self.gridding.spikes:
            return None
        try:
            height = float(self.gridding.spikes.rstrip("m"))
        except ValueError as exc:
            raise UsageError(
                f"--spikes {self.gridding.spikes}", "a height is needed", "write --spikes 5m"
            ) from exc
        if not height > 0:
            raise UsageError(f"--spikes {height:g}", "no point would be left", "write --spikes 5m")
        size = max(_NEIGHBOURS * self.spacing, 1.0)
        self.counted.chose.append(fact("without_spikes", height=height))
        return size, height

    def _points(self, values: frozenset[str], tick: Tick = no_tick) -> Points:
        """A way to the points that may lie within bounds, in order."""
        bounds = self.frame.bounds if self.whole_extent else None
        limits = replace(self.output.limits, tick=tick)
        return Points(self.whole, self.picked, values, self.counted, limits, bounds)

    def _spooled(self, margin: float, values: dict[str, Callable[[PointBlock], Any]]) -> Spool:
        """All points by place, with values made of them."""
        spool = Spool.over(self.frame, margin + 8 * self.spacing, list(values), self.whole.count)
        if self.output.dry_run:
            self.counted.ground = 1
            return spool
        for block in self._points(frozenset(needs_of(values)), self.output.limits.tick)(self.frame.bounds):
            held = {name: np.asarray(make(block), np.float64) for name, make in values.items()}
            self.counted.ground += int(held["ground"].sum()) if "ground" in held else 0
            spool.add(block, held)
        self._refuse_none(self.counted.used)
        return spool

    def _check_any(self) -> None:
        """Raise InputError if no point is picked at all; as a rule the first part says that some are."""
        sieve = Sieve(None, self.picked)
        blocks = (sieve.kept(piece, frozenset()) for piece in pieces_of(self.whole.sources))
        self._refuse_none(any(block is not None and len(block) for block in blocks))

    def _refuse_none(self, used: int | bool) -> None:
        if not used and not self.output.dry_run:
            raise EmptyInputError(
                "no point was used", f"{self.whole.count:,} were looked at", "check --classes and --returns"
            )
