"""convert, clip and reproject for points."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.engine.points import Piece
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import UnresolvedCRS
from zembrel.geodesy.operation import operation
from zembrel.inputs.clouds import picking
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.points.files.catalogue import TABLES, format_of
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointBlock, PointSource
from zembrel.points.moving import Moved, carried_scaling
from zembrel.points.picking import Inside
from zembrel.points.restated import las_of
from zembrel.results.clouds import Change, Job, Sieve, unchanged
from zembrel.results.cloudsurvey import bounds_of, keep_part_bounds
from zembrel.results.cloudtarget import new_file
from zembrel.results.cloudways import check_meeting, height_factor, inside, target_crs, told, way_to
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
    heights, more = height_factor(source.cloud.crs, way, where)
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
