"""convert, clip and reproject for points."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.engine.points import Piece
from zembrel.errors import InputError, UsageError
from zembrel.facts import Fact, fact, remarks
from zembrel.geodesy.crs import CRS, UnresolvedCRS, label, same, vertical_of
from zembrel.geodesy.operation import CoordinateOperation, operation
from zembrel.inputs.aids import check_used, equipped, metres
from zembrel.inputs.clouds import picking
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.inputs.within import asked_crs, asked_frame, overlap_error, resolve
from zembrel.points.files.catalogue import TABLES, format_of
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointBlock, PointSource
from zembrel.points.moving import Moved, carried_scaling
from zembrel.points.picking import Inside
from zembrel.points.restated import las_of
from zembrel.results.clouds import Change, Job, Sieve, unchanged
from zembrel.results.cloudsurvey import bounds_of, keep_part_bounds
from zembrel.results.cloudtarget import new_file
from zembrel.results.eachcloud import one_to_one
from zembrel.results.receipt import Receipt
from zembrel.verbs.clip import Clipping
from zembrel.verbs.convert import Values


def convert(given: Given, where: Where, output: Output, values: Values) -> Receipt:
    """Each file in another format, or only the points that are asked for."""
    inputs = given.options
    sieve = Sieve(None, picking(inputs))

    def plan(source: PointSource, final: Path) -> Job:
        written = inputs.columns if format_of(final) in TABLES and las_of(source) is not None else None
        new = new_file(source, final, output, columns=inputs.fields or written)
        return Job(new, sieve, chose=told(sieve))

    return one_to_one("convert", given, output, plan, resume=values.resume)


@dataclass(frozen=True)
class _Carried:
    """A change of each block to another CRS."""

    move: Moved

    def __call__(self, block: PointBlock, piece: Piece) -> PointBlock:
        return self.move(block)


@dataclass(frozen=True, eq=False)
class _Within:
    """A change, and of its points those in an area."""

    change: Change
    area: Inside

    def __call__(self, block: PointBlock, piece: Piece) -> PointBlock:
        block = self.change(block, piece)
        return block.take(self.area.mask(block.x, block.y))


def told(sieve: Sieve) -> tuple[Fact, ...]:
    return () if sieve.picking.all else (fact("points_picked", points=str(sieve.picking)),)


def clip(given: Given, where: Where, output: Output, clipping: Clipping) -> Receipt:
    """The points of each file that lie in the area, or outside it."""
    inputs, outside = given.options, clipping.outside
    if where.cell:
        raise UsageError("--cell is for cells", "points have none", "leave it out, or make cells with grid")

    def plan(source: PointSource, final: Path) -> Job:
        if clipping.keep_bounds and not output.dry_run:
            keep_part_bounds(source, output)
        new, move, said = moved(source, final, output, where)
        sieve = Sieve(None, picking(inputs))
        if move is unchanged:
            sieve = replace(sieve, inside=inside(source.cloud.crs, where, outside=outside))
            check_meeting(source, sieve.inside, where)
            return Job(new, sieve, chose=(*told(sieve), *said))
        area = inside(new.crs, where, outside=outside)  # in the CRS of the result, as everywhere

        return Job(new, sieve, _Within(move, area), chose=(*told(sieve), *said))

    return one_to_one("clip", given, output, plan)


def inside(crs: CRS | None, where: Where, *, outside: bool = False) -> Inside:
    """The area of `where` in the CRS of points. Raises UsageError or InputError."""
    frame = asked_frame(where)
    if frame is not None and not where.within:
        if same(frame.crs, crs):
            return Inside(frame.bounds, None, outside)
        where = replace(where, within=where.onto)
    area = resolve(where, crs)
    return Inside(area.bounds, area.polygon, outside)


def check_meeting(source: PointSource, area: Inside | None, where: Where) -> None:
    """Raise InputError if no point can lie in the area, by what the file says and its first points prove."""
    bounds = source.cloud.bounds
    if area is None or bounds is None or area.meets(bounds) or not source.parts:
        return
    first = source.read(source.parts[0], frozenset()).bounds()
    slack = [abs(step) * 2 for step in source.cloud.scaling.scale]
    if all(bounds[k] - slack[k] <= first[k] and first[k + 3] <= bounds[k + 3] + slack[k] for k in range(2)):
        box = bounds[0], bounds[1], bounds[3], bounds[4]
        raise overlap_error("no point lies", box, source.cloud.crs, str(where.within or where.onto))


def reproject(given: Given, where: Where, output: Output, resampling: object) -> Receipt:
    """Each file in another CRS."""
    sieve = Sieve(None, picking(given.options))

    def plan(source: PointSource, final: Path) -> Job:
        new, change, said = moved(source, final, output, where)
        return Job(new, sieve, change, chose=(*told(sieve), *said))

    return one_to_one("reproject", given, output, plan)


def moved(
    source: PointSource, final: Path, output: Output, where: Where
) -> tuple[NewFile, Change, list[Fact]]:
    """The new file, what is done to each block for it, and what was chosen."""
    target = target_crs(source.cloud.crs, where)
    way, said = way_to(source.cloud.crs, target, where)
    heights, more = _height_factor(source.cloud.crs, way, where)
    if way is None and heights == 1.0:
        return new_file(source, final, output), unchanged, [*said, *more]
    if way is None:
        assert source.cloud.crs is not None and not isinstance(source.cloud.crs, UnresolvedCRS)
        way = operation(source.cloud.crs, source.cloud.crs)
    scaling = carried_scaling(
        source.cloud.scaling, source.cloud.bounds or bounds_of(source, output), way, heights
    )
    new = new_file(source, final, output, scaling=scaling, crs=way.target)
    move = Moved(way, new.scaling, heights)
    steps = "/".join(f"{step:g}" for step in new.scaling.scale)
    return new, _Carried(move), [*said, *more, fact("steps", steps=steps)]


def target_crs(own: CRS | None, where: Where) -> CRS | None:
    """The CRS that is asked for, or None for that of the points."""
    frame = asked_frame(where)
    if frame is not None and not where.crs:
        return frame.crs
    if where.crs:
        return asked_crs(where)
    return own if where.z_unit else None


def way_to(
    own: CRS | None, target: CRS | None, where: Where
) -> tuple[CoordinateOperation | None, list[Fact]]:
    if target is None:
        return None, []
    if own is None:
        raise InputError(
            "points without a CRS have no place", "their file does not say", "add --from-crs CRS"
        )
    if isinstance(own, UnresolvedCRS):
        raise own.refuse()
    verticals = (vertical_of(own),)
    target = equipped(target, where, verticals)
    if isinstance(target, UnresolvedCRS):
        raise target.refuse()
    way = operation(own, target)
    check_used(where, [way])
    if same(own, target) and not way.changes_heights:
        return None, []
    return way, [fact("from_crs", crs=label(own)), *remarks(way.checked(where.strict_crs).remarks)]


def _height_factor(
    own: CRS | None, way: CoordinateOperation | None, where: Where
) -> tuple[float, list[Fact]]:
    """What heights are multiplied with for --z-unit, where the operation does not do that."""
    if not where.z_unit or (way is not None and way.changes_heights):
        return 1.0, []
    vertical = vertical_of(own)
    if where.from_z_unit:
        unit = metres(where.from_z_unit)
    elif vertical is not None:
        unit = vertical.unit.factor
    else:
        raise InputError(
            "nobody says in which unit the heights are",
            "the CRS of the points does not name one",
            "add --from-z-unit m, if that is what they are in",
        )
    factor = unit / metres(where.z_unit)
    return (
        (1.0, [fact("heights_already", unit=where.z_unit)])
        if math.isclose(factor, 1.0)
        else (factor, [fact("heights_into", unit=where.z_unit)])
    )
