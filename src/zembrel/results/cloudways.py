"""Clouds brought to a CRS and an area: the ways there, and what is told of them."""

from __future__ import annotations

import math
from dataclasses import replace

from zembrel.errors import InputError
from zembrel.facts import Fact, fact, remarks
from zembrel.geodesy.crs import CRS, UnresolvedCRS, label, same, vertical_of
from zembrel.geodesy.operation import CoordinateOperation, operation
from zembrel.inputs.aids import check_used, equipped, metres
from zembrel.inputs.options import Where
from zembrel.inputs.within import asked_crs, asked_frame, overlap_error, resolve
from zembrel.points.model import PointSource
from zembrel.points.picking import Inside
from zembrel.results.clouds import Sieve


def told(sieve: Sieve) -> tuple[Fact, ...]:
    return () if sieve.picking.all else (fact("points_picked", points=str(sieve.picking)),)


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


def height_factor(own: CRS | None, way: CoordinateOperation | None, where: Where) -> tuple[float, list[Fact]]:
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
