"""What the user gives for the way between two CRSs: shift grid, height grid, epoch, and units of heights."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.facts import Fact, fact, remarks
from zembrel.formats import open_raster
from zembrel.geodesy.aid import Aid
from zembrel.geodesy.crs import CRS, UnresolvedCRS, VerticalCRS, aided, label, vertical_of, with_vertical
from zembrel.geodesy.operation import CoordinateOperation, operation
from zembrel.geodesy.shiftgrid import ShiftGrid, read_shift_grid
from zembrel.geodesy.text.vertical import recognised
from zembrel.geodesy.units import Unit
from zembrel.handles import file_handles
from zembrel.inputs.options import Where
from zembrel.measure import LENGTHS
from zembrel.raster.model import Band, Raster, is_photo
from zembrel.raster.separation import GridSeparation
from zembrel.raster.views.heights import Heights
from zembrel.raster.views.place import Reframed
from zembrel.raster.views.unscaled import unscaled

_REGISTERED = {"m": ("metre", 9001), "ft": ("foot", 9002), "usft": ("US survey foot", 9003)}
_YEARS = (1900.0, 2200.0)


def load_aid(given: Where) -> Aid | None:
    """The files and the epoch that are given, or None. Raises InputError or UsageError."""
    if given.shift_grid is None and given.height_grid is None and given.epoch is None:
        return None
    if given.epoch is not None and not _YEARS[0] <= given.epoch <= _YEARS[1]:
        raise UsageError(f"--epoch {given.epoch:g}", "a decimal year is needed", "write --epoch 2020.5")
    grid = None if given.shift_grid is None else _shift_grid(Path(given.shift_grid))
    separation = None
    if given.height_grid is not None:
        path = Path(given.height_grid)
        separation = GridSeparation(path.name, open_raster(path))
    return Aid(grid, separation, given.epoch)


def _shift_grid(path: Path) -> ShiftGrid:
    return _read_once(path, file_handles.renew(path))


@lru_cache(maxsize=4)
def _read_once(path: Path, stamp: object) -> ShiftGrid:
    return read_shift_grid(path)


def equipped(crs: CRS, given: Where, verticals: Iterable[VerticalCRS | None] = ()) -> CRS:
    """The CRS of the result with what is given for the way there.

    verticals: what heights mean in the inputs; they mean it still if all agree and `crs` does not say. A
    unit of heights that is asked for becomes that of the CRS.
    """
    vertical = vertical_of(crs)
    common = set(verticals)
    if vertical is None and len(common) == 1:
        vertical = common.pop()
    if vertical is not None and given.z_unit:
        name, code = _REGISTERED.get(given.z_unit, (given.z_unit, 0))
        unit = Unit(name, "length", metres(given.z_unit), code)
        if not math.isclose(unit.factor, vertical.unit.factor, rel_tol=1e-9):
            vertical = recognised(vertical.name, vertical.datum, unit, vertical.down, None)
    return aided(with_vertical(crs, vertical), load_aid(given))


def metres(sign: str) -> float:
    """Metres in a unit of heights. Raises UsageError, with the near miss."""
    if sign not in LENGTHS:
        raise UsageError(f"unit {sign!r} of heights", "it is no length", nearest_name(sign, LENGTHS))
    return float(LENGTHS[sign])


def _sign(unit: Unit) -> str:
    alike = (sign for sign, size in LENGTHS.items() if math.isclose(float(size), unit.factor, rel_tol=1e-9))
    return next(alike, unit.name)


def check_used(given: Where, operations: Sequence[CoordinateOperation]) -> None:
    """Raise InputError for a grid that lies on no way from an input to the result."""
    first = operations[0] if operations else None
    ends = f"from {label(first.source)} to {label(first.target)}" if first else "without a CRS"
    if given.shift_grid and not any(o.shift is not None and o.shift.uses_grid for o in operations):
        grid = _shift_grid(Path(given.shift_grid))
        raise InputError(
            f"{given.shift_grid} is of no use here",
            f"it leads from {grid.source} to {grid.target}, the way is {ends}",
            "leave --shift-grid out, or check the two CRSs",
        )
    if given.height_grid and not any(o.heights is not None and o.heights.separation for o in operations):
        raise InputError(
            f"{given.height_grid} is of no use here",
            f"it is for heights that go from an ellipsoid to another surface, or back; the way is {ends}",
            'say what heights mean: --crs "EPSG:32626 + EPSG:5773" or "EPSG:32626 + ellipsoidal height"',
        )


def with_heights(
    view: Raster, operation: CoordinateOperation | None, given: Where
) -> tuple[Raster, list[Fact]]:
    """`view`, already on the frame of the result, with heights as that means them or in `z_unit`.

    Colours and classes are no heights, nor are bands of a unit that is no length. Raises InputError if
    nobody says in which unit heights are.
    """
    changes = operation is not None and operation.changes_heights
    if not changes and not given.z_unit:
        return view, []
    if is_photo(view.bands) or not any(map(_holds_heights, view.bands)):
        if given.z_unit:
            raise InputError(
                "there are no heights to change", "colours and classes are none", "leave --z-unit out"
            )
        return view, []
    view = unscaled(view)  # stored numbers are no heights
    change = operation.heights if operation is not None else None
    units = tuple(
        _metres_of(band.unit, change.source if change else None, given) if _holds_heights(band) else None
        for band in view.bands
    )
    if changes and change is not None:
        return Heights(view, units, change.target.unit.factor, _sign(change.target.unit), operation), []
    assert given.z_unit is not None
    unit = metres(given.z_unit)
    if all(own is None or math.isclose(own, unit, rel_tol=1e-9) for own in units):
        return view, [fact("heights_already", unit=given.z_unit)]
    return Heights(view, units, unit, given.z_unit), [fact("heights_into", unit=given.z_unit)]


def in_z_unit(view: Raster, given: Where) -> tuple[Raster, list[Fact]]:
    """`view` on its own frame with heights in `z_unit`, if one is asked for. Raises InputError as above."""
    own = view.frame.crs
    if not given.z_unit or own is None or isinstance(own, UnresolvedCRS):
        return with_heights(view, None, given)
    way = operation(own, equipped(own, given))
    placed = Reframed(view, replace(view.frame, crs=way.target))
    changed, chose = with_heights(placed, way, given)
    return changed, [*remarks(way.remarks), *chose]


def _holds_heights(band: Band) -> bool:
    return not band.categorical and (not band.unit or band.unit in LENGTHS)


def _metres_of(unit: str, vertical: VerticalCRS | None, given: Where) -> float:
    if unit:
        return metres(unit)
    if given.from_z_unit:
        return metres(given.from_z_unit)
    if vertical is not None:
        return vertical.unit.factor
    raise InputError(
        "nobody says in which unit the heights are",
        "neither the bands nor the CRS name one",
        "add --from-z-unit m, if that is what they are in",
    )
