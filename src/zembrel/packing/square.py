"""The exactly square area that engines take, in metres that are true to scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import CRS, GeographicCRS, UnresolvedCRS, label
from zembrel.geodesy.registry import by_code, fitting_at
from zembrel.grid.extent import box_bounds, carried_bounds, ground
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.framefile import crs_text
from zembrel.inputs.layers import Layer, check_placed
from zembrel.inputs.options import Where
from zembrel.inputs.target import Target, decide
from zembrel.inputs.within import resolve

ROUNDING = 1.02  # by which a side may grow when it is brought to whole cells
_TRUE = 0.01  # share by which a projection may be off in scale and still count as true to it


@dataclass(frozen=True)
class Square:
    """West, south, side in units of the CRS, metres in one of them, and how layers come to it."""

    target: Target
    west: float
    north: float
    side: float
    unit: float

    @property
    def metres(self) -> float:
        return self.side * self.unit

    @property
    def crs(self) -> CRS | None:
        return self.target.frame.crs

    def nodes(self, count: int) -> Target:
        """`count` x `count` nodes, the outer ones on its sides."""
        return self._target(self.side / (count - 1), count, "node")

    def cells(self, count: int) -> Target:
        """`count` x `count` cells that fill it."""
        return self._target(self.side / count, count, "cell")

    def _target(self, cell: float, count: int, registration: str) -> Target:
        affine = Affine(self.west, self.north, cell, -cell)
        return replace(self.target, frame=Frame(self.crs, affine, count, count, registration))


def square_of(layers: Sequence[Layer], where: Where) -> tuple[Square, list[Fact]]:
    """The smallest square around what is asked for, or around all layers, with the same middle.

    Where no CRS is asked for, a fitting one is taken. Raises UsageError for one that is not true to scale.
    """
    check_placed(layers)
    wanted, said = where, list[Fact]()
    if not where.crs and not _true(_asked(layers, where)):
        west, south, east, north = _degrees(layers, where)
        crs = fitting_at((west + east) / 2, (south + north) / 2)
        wanted, said = replace(where, crs=crs_text(crs)), [fact("crs_in_metres", crs=label(crs))]
    target = decide(layers, wanted)
    if not _true(target.frame):
        why = "an engine's terrain has metres both ways"
        raise UsageError(f"{label(target.frame.crs)} is not true to scale there", why, "leave --crs out")
    bounds = resolve(wanted, target.frame.crs).bounds if where.within else target.frame.bounds
    west, south, east, north = bounds
    side = max(east - west, north - south)
    if abs((east - west) - (north - south)) > 1e-6 * side:
        said.append(fact("made_square", side=side, east=side - (east - west), north=side - (north - south)))
    x, y = (west + east) / 2, (south + north) / 2
    unit = getattr(target.frame.crs, "unit", None)
    square = Square(target, x - side / 2, y + side / 2, side, unit.factor if unit else 1.0)
    return square, said


def _asked(layers: Sequence[Layer], where: Where) -> Frame:
    """The frame that the layers would land on."""
    return decide(layers, where).frame


def _true(frame: Frame) -> bool:
    """Whether a unit of the CRS is as long on the ground as it says, both ways."""
    crs = frame.crs
    if crs is None:
        return True
    if isinstance(crs, GeographicCRS | UnresolvedCRS):
        return False
    return all(abs(metres / crs.unit.factor - 1) < _TRUE for metres in ground(frame))


def _degrees(layers: Sequence[Layer], where: Where) -> tuple[float, float, float, float]:
    frame = _asked(layers, where)
    if where.within:
        return box_bounds(resolve(where, frame.crs).bounds, frame.crs or by_code(4326), by_code(4326))
    return carried_bounds(frame, by_code(4326))
