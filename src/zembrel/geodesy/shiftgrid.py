"""Shift grids: latitude and longitude differences between two datums, in NTv2 files (EPSG method 9615).

Source: Natural Resources Canada, NTv2 Developer's Guide (1995), appendix on the grid shift file; IOGP
Guidance Note 7-2, method 9615. Inside, longitudes are positive west, as in the file.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.geodesy.ellipsoid import Array
from zembrel.reading import readings

_RECORD, _HEADER = 16, 11 * 16
_SECONDS = {"SECONDS": 1.0, "MINUTES": 60.0, "DEGREES": 3600.0}
_STEPS = 12  # of the way back; shifts change by less than a thousandth of themselves from step to step
_ENOUGH = 1e-13  # radians, a micrometre
_EDGE = 1e-6  # of a mesh, by which rounding may put a point beside the grid


@dataclass(frozen=True, eq=False)
class Subgrid:
    """Shifts on the nodes of one rectangle, in radians.

    south, east: of the first node; lat_step, lon_step: between nodes; shifts: (rows to the north, columns
    to the west, 2) of latitude and of longitude, positive west.
    """

    name: str
    parent: str
    south: float
    east: float
    lat_step: float
    lon_step: float
    shifts: Array

    def place(self, lat: Array, west: Array) -> tuple[Array, Array]:
        """Row and column of points, counted from the first node."""
        return (lat - self.south) / self.lat_step, (west - self.east) / self.lon_step

    def holds(self, lat: Array, west: Array) -> npt.NDArray[np.bool_]:
        """Which points lie on the grid."""
        row, column = self.place(lat, west)
        last_row, last_column = (size - 1 + _EDGE for size in self.shifts.shape[:2])
        inside: npt.NDArray[np.bool_] = (row >= -_EDGE) & (row <= last_row) & (column >= -_EDGE)
        inside &= column <= last_column
        return inside

    def at(self, lat: Array, west: Array) -> Array:
        """Shifts of points on the grid by bilinear interpolation, (n, 2)."""
        row, column = self.place(lat, west)
        r = np.clip(np.floor(row).astype(int), 0, self.shifts.shape[0] - 2)
        c = np.clip(np.floor(column).astype(int), 0, self.shifts.shape[1] - 2)
        up, left = (row - r)[:, None], (column - c)[:, None]
        lower = (1 - left) * self.shifts[r, c] + left * self.shifts[r, c + 1]
        upper = (1 - left) * self.shifts[r + 1, c] + left * self.shifts[r + 1, c + 1]
        found: Array = (1 - up) * lower + up * upper
        return found


@dataclass(frozen=True, eq=False)
class ShiftGrid:
    """A grid file from system `source` to `target`, as it names them; the finest subgrid counts."""

    name: str
    source: str
    target: str
    subgrids: tuple[Subgrid, ...]  # the coarser first

    def _shifts(self, lon: Array, lat: Array) -> Array:
        """Of latitude and of longitude positive west, (n, 2); NaN off the grid."""
        found = np.full((lat.size, 2), np.nan)
        for grid in self.subgrids:
            first = grid.east + grid.lon_step * (grid.shifts.shape[1] - 1) / 2 - math.pi
            west = first + np.mod(-lon - first, math.tau)
            here = grid.holds(lat, west)
            if here.any():
                found[here] = grid.at(lat[here], west[here])
        return found

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """Radians, positive east, in `source` to those in `target`; NaN off the grid."""
        shape = np.shape(lon)
        lon, lat = np.ravel(lon), np.ravel(lat)
        shifts = self._shifts(lon, lat)
        return (lon - shifts[:, 1]).reshape(shape), (lat + shifts[:, 0]).reshape(shape)

    def inverse(self, lon: Array, lat: Array) -> tuple[Array, Array]:
        """The way back, by iteration."""
        shape = np.shape(lon)
        lon, lat = np.ravel(lon), np.ravel(lat)
        from_lon, from_lat = lon, lat
        for _ in range(_STEPS):
            shifts = self._shifts(from_lon, from_lat)
            next_lon, next_lat = lon + shifts[:, 1], lat - shifts[:, 0]
            moved = np.maximum(np.abs(next_lon - from_lon), np.abs(next_lat - from_lat))
            from_lon, from_lat = next_lon, next_lat
            if not (moved > _ENOUGH).any():
                break
        return from_lon.reshape(shape), from_lat.reshape(shape)


def read_shift_grid(path: Path) -> ShiftGrid:
    """The shift grid in the NTv2 file at `path`. Raises InputError for any other file, or a broken one."""
    try:
        data = readings.note(path).read_bytes()
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check --shift-grid") from exc
    if data[:8] != b"NUM_OREC":
        raise InputError(
            f"{path} is no shift grid",
            f"an NTv2 file begins with NUM_OREC, this one with {data[:8]!r}",
            "give a .gsb file; geoid heights go to --height-grid",
        )
    order = next((o for o in "<>" if data[8:12] == struct.pack(o + "i", 11)), None)
    if order is None:
        raise _broken(path, "its header has not the 11 records of NTv2")
    try:
        return _read(path, data, order)
    except (struct.error, IndexError, UnicodeDecodeError) as exc:
        raise _broken(path, "it ends too early") from exc


def _broken(path: Path, why: str) -> InputError:
    return InputError(f"{path} is broken", why, "fetch it again from who made it")


def _read(path: Path, data: bytes, order: str) -> ShiftGrid:
    count = _integer(data, 2, 0, order)
    kind = _text(data, 3, 0)
    if kind not in _SECONDS:
        raise _broken(path, f"its shifts are in {kind!r}, which is neither SECONDS, MINUTES nor DEGREES")
    unit = math.radians(_SECONDS[kind] / 3600)
    subgrids = list(_subgrids(path, data, order, count, unit))
    return ShiftGrid(path.name, _text(data, 5, 0), _text(data, 6, 0), _by_level(path, subgrids))


def _subgrids(path: Path, data: bytes, order: str, count: int, unit: float) -> Iterator[Subgrid]:
    at = _HEADER
    for number in range(1, count + 1):
        if data[at : at + 8] != b"SUB_NAME":
            raise _broken(path, f"subgrid {number} of {count} is not where it is due")
        south, north, east, west, lat_step, lon_step = (_number(data, n, at, order) for n in range(4, 10))
        nodes, name = _integer(data, 10, at, order), _text(data, 0, at)
        if not (0 < lat_step <= north - south < math.inf and 0 < lon_step <= west - east < math.inf):
            raise _broken(path, f"subgrid {name} has no extent")
        rows, columns = round((north - south) / lat_step) + 1, round((west - east) / lon_step) + 1
        if rows * columns != nodes or rows < 2 or columns < 2:
            raise _broken(path, f"subgrid {name} says {nodes:,} nodes, its extent {rows} x {columns}")
        body = at + _HEADER
        if len(data) < body + nodes * _RECORD:
            raise _broken(path, "it ends too early")
        values = np.frombuffer(data, order + "f4", nodes * 4, body).reshape(rows, columns, 4)
        shifts = values[:, :, :2].astype(np.float64) * unit
        place = south * unit, east * unit, lat_step * unit, lon_step * unit
        yield Subgrid(name, _text(data, 1, at), *place, shifts)
        at = body + nodes * _RECORD


def _by_level(path: Path, subgrids: list[Subgrid]) -> tuple[Subgrid, ...]:
    """The coarser first: a subgrid comes after its parent."""
    done: list[Subgrid] = []
    names = {grid.name for grid in subgrids}
    waiting = subgrids
    while waiting:
        ready = [g for g in waiting if g.parent not in names or any(g.parent == d.name for d in done)]
        if not ready:
            raise _broken(path, f"subgrid {waiting[0].name} is among its own parents")
        done += ready
        waiting = [g for g in waiting if g not in ready]
    if not done:
        raise _broken(path, "it holds no grid")
    return tuple(done)


def _text(data: bytes, record: int, at: int) -> str:
    start = at + record * _RECORD + 8
    return data[start : start + 8].decode("latin-1").strip("\0 ")


def _integer(data: bytes, record: int, at: int, order: str) -> int:
    return int(struct.unpack_from(order + "i", data, at + record * _RECORD + 8)[0])


def _number(data: bytes, record: int, at: int, order: str) -> float:
    return float(struct.unpack_from(order + "d", data, at + record * _RECORD + 8)[0])
