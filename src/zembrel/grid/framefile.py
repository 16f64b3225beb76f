"""Frame files (`*.frame.toml`): a frame as text that reads back identical to the last bit."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, vertical_of
from zembrel.geodesy.registry import parse_crs
from zembrel.grid.frame import Affine, Frame
from zembrel.tomlfile import Keys, check_keys, read_toml, write_toml

ENDING = ".frame.toml"
_NUMBER = (int, float)
_KEYS: Keys = {
    "crs": str,
    "left": _NUMBER,
    "top": _NUMBER,
    "cell": list,
    "turn": list,
    "columns": int,
    "rows": int,
    "registration": str,
}


def write_frame(frame: Frame) -> str:
    """TOML text of `frame`. left and top are those of the first cell's corner or the first node."""
    return write_toml(frame_table(frame))


def frame_table(frame: Frame) -> dict[str, Any]:
    """The keys of a frame file and their values."""
    a = frame.affine
    table: dict[str, Any] = {"crs": crs_text(frame.crs)} if frame.crs else {}
    table |= {"left": a.x0, "top": a.y0, "cell": [a.x_col, -a.y_row]}
    if a.x_row or a.y_col:
        table["turn"] = [a.x_row, a.y_col]
    return table | {"columns": frame.columns, "rows": frame.rows, "registration": frame.registration}


def read_frame(path: Path) -> Frame:
    """The frame in the file at `path`. Raises InputError naming the line of what is wrong."""
    return frame_from(path, read_toml(path, "frame file"))


def frame_from(path: Path, table: dict[str, Any]) -> Frame:
    """The frame of the keys that `path` holds. Raises InputError naming what is wrong."""
    check_keys(path, table, _KEYS, required=("left", "top", "cell", "columns", "rows"))
    across, along = _pair(path, "cell", table["cell"])
    x_row, y_col = _pair(path, "turn", table.get("turn", [0.0, 0.0]))
    affine = Affine(float(table["left"]), float(table["top"]), across, -along, x_row, y_col)
    crs = parse_crs(table["crs"]) if "crs" in table else None
    return Frame(crs, affine, table["columns"], table["rows"], table.get("registration", "cell"))


def crs_text(crs: CRS) -> str:
    """The text by which `crs` is found again."""
    own = f"EPSG:{crs.code}" if crs.code else crs.name
    vertical = vertical_of(crs)
    return own if vertical in (None, crs) else f"{own} + {crs_text(vertical)}"


def _pair(path: Path, key: str, numbers: list[Any]) -> tuple[float, float]:
    if len(numbers) != 2 or not all(isinstance(n, int | float) for n in numbers):
        raise InputError(f"{path}: {key} = {numbers}", "two numbers are needed", f"write {key} = [x, y]")
    return float(numbers[0]), float(numbers[1])
