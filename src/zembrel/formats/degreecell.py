"""Cells of one degree: nodes on WGS 84, the outer ones on the whole degrees that bound the cell."""

from __future__ import annotations

import re
from pathlib import Path

from zembrel.errors import RefusedError
from zembrel.geodesy.crs import same
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import ALIGNED, Affine, Frame

_WGS_84 = 4326
NAME = re.compile(r"([NS])(\d\d)_?([EW])(\d\d\d)", re.IGNORECASE)


def cell_name(west: int, south: int) -> str:
    """The name of the cell whose lower left node lies at whole degrees: `N46W024`."""
    return f"{'S' if south < 0 else 'N'}{abs(south):02d}{'W' if west < 0 else 'E'}{abs(west):03d}"


def corner_named(path: Path) -> tuple[int, int] | None:
    """West and south of the cell that a file is named after, or None."""
    found = NAME.match(path.name)
    if not found:
        return None
    south = int(found[2]) * (-1 if found[1] in "sS" else 1)
    west = int(found[4]) * (-1 if found[3] in "wW" else 1)
    return (west, south) if -90 <= south < 90 and -180 <= west < 180 else None


def degree_cell(west: int, south: int, columns: int, rows: int) -> Frame:
    """The frame of a cell with so many nodes."""
    affine = Affine(float(west), float(south + 1), 1 / (columns - 1), -1 / (rows - 1))
    return Frame(by_code(_WGS_84), affine, columns, rows, "node")


def corner_of(frame: Frame) -> tuple[int, int] | None:
    """West and south of the cell that `frame` is, or None if it is none."""
    if (
        not same(frame.crs, by_code(_WGS_84))
        or frame.registration != "node"
        or min(frame.columns, frame.rows) < 2
    ):
        return None
    west, south = _corner(frame)
    due = degree_cell(west, south, frame.columns, frame.rows)
    here = frame.affine
    off = max(abs(here.x0 - due.affine.x0), abs(here.y0 - due.affine.y0)) / min(due.cell)
    drift = max(abs(here.x_col - due.affine.x_col), abs(here.y_row - due.affine.y_row)) * frame.longest
    fits = frame.north_up and off < ALIGNED and drift < ALIGNED * min(due.cell)
    return (west, south) if fits else None


def _corner(frame: Frame) -> tuple[int, int]:
    a = frame.affine
    return round(a.x0), round(a.y0 + (frame.rows - 1) * a.y_row)


def no_cell(path: Path, frame: Frame, step: str, size: str) -> RefusedError:
    """The refusal to write `frame` as a cell of `size`, with the frame that would do."""
    named = corner_named(path)
    here = _corner(frame) if same(frame.crs, by_code(_WGS_84)) else (-24, 46)
    name = cell_name(*(named or here))
    make = f"zembrel frame --within degree:{name} --cell {step} --registration node -o {name}.frame.toml"
    return RefusedError(
        f"{path.name} would be no one-degree cell",
        f"one has {size}, on the whole arc-seconds of a degree of WGS 84",
        f"{make}, then add --onto {name}.frame.toml",
    )
