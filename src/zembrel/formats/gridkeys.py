"""The keys by which a text says where a grid lies: of ASCII grids, and of the labels of binary ones.

Source: the keys as publicly described by many who publish grids with them: `ncols`, `nrows`, `xllcorner` and
`yllcorner` (edges of the lower left cell) or `xllcenter` and `yllcenter` (its middle: values on nodes here),
`cellsize` (or `dx` and `dy`), and `nodata_value` (or `nodata`), in any case and order.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Affine, Frame
from zembrel.measure import exact_number

_KEYS = (
    "ncols", "nrows", "xllcorner", "yllcorner", "xllcenter", "yllcenter", "cellsize", "dx", "dy",
    "nodata_value", "nodata", "byteorder",
)  # fmt: skip
_STEPS = ("cellsize", "dx", "dy")

Broken = Callable[[Path, str], InputError]


class GridHeader(NamedTuple):
    """What the first lines say, numbers as exact as they are written; `end`: the byte after them."""

    numbers: Mapping[str, Fraction]
    nodata: str | None
    order: str | None  # of bytes, as a label says it
    end: int
    broken: Broken

    def frame(self, path: Path, crs: CRS | None) -> Frame:
        """The frame. Raises InputError for keys that are missing or make none."""
        n = self.numbers
        missing = [key for key in ("ncols", "nrows") if key not in n]
        missing += [] if "cellsize" in n or {"dx", "dy"} <= n.keys() else ["cellsize"]
        missing += [
            f"{axis}llcorner" for axis in "xy" if not {f"{axis}llcorner", f"{axis}llcenter"} & n.keys()
        ]
        if missing:
            raise self.broken(path, f"its header lacks {', '.join(missing)}")
        columns, rows = n["ncols"], n["nrows"]
        across, along = n.get("dx", n.get("cellsize")), n.get("dy", n.get("cellsize"))
        assert across is not None and along is not None
        if min(columns, rows) < 1 or columns.denominator * rows.denominator != 1 or min(across, along) <= 0:
            raise self.broken(
                path, f"its header says {columns} x {rows} cells of {float(across):g} x {float(along):g}"
            )
        affine = _placed(n, across, along, int(rows))
        return Frame(crs, affine, int(columns), int(rows), _anchor(n))


def _anchor(n: Mapping[str, Fraction]) -> str:
    return "node" if "xllcenter" in n and "yllcenter" in n else "cell"


def _placed(n: Mapping[str, Fraction], across: Fraction, along: Fraction, rows: int) -> Affine:
    """The affine; of mixed corner and centre the centre counts as half a cell in."""
    west, south = (
        n[f"{axis}llcorner"] if f"{axis}llcorner" in n else n[f"{axis}llcenter"] for axis in ("x", "y")
    )
    if _anchor(n) == "cell":
        west -= across / 2 if "xllcorner" not in n else 0
        south -= along / 2 if "yllcorner" not in n else 0
        rows += 1
    return Affine(float(west), float(south + (rows - 1) * along), float(across), -float(along))


def read_header(path: Path, head: bytes, broken: Broken) -> GridHeader:
    """The keys that `head` begins with. Raises what `broken` makes for a value that is no number."""
    numbers: dict[str, Fraction] = {}
    nodata, order, at = None, None, 0
    for found in re.finditer(rb"\s*([A-Za-z_]+)[ \t:=]+(\S+)[^\S\n]*(?:\r?\n|\r|$)", head):
        key, text = found[1].decode().lower(), found[2].decode("ascii", "replace")
        if found.start() != at or key not in _KEYS:
            break
        if key.startswith("nodata"):
            nodata = text
        elif key == "byteorder":
            order = text.lower()
        else:
            try:
                exact = exact_number(text)
                numbers[key] = Fraction(float(text)) if key in _STEPS else exact
            except (ValueError, OverflowError, ZeroDivisionError) as exc:
                raise broken(path, f"{key} is {text!r}") from exc
        at = found.end()
    return GridHeader(numbers, nodata, order, at, broken)


def header_text(frame: Frame, void: Any, *, whole: bool) -> str:
    """The header; the lower left corner such that the upper left one comes back to the last bit."""
    a, node = frame.affine, frame.registration == "node"
    across, along = Fraction(a.x_col), -Fraction(a.y_row)
    down = frame.rows - 1 if node else frame.rows
    place = "center" if node else "corner"
    lines = [f"ncols {frame.columns}", f"nrows {frame.rows}", f"xll{place} {_text(Fraction(a.x0))}"]
    south = Fraction(a.y0) - down * along
    lines.append(f"yll{place} {_exact(south, lambda low: float(low + down * along) == a.y0)}")
    same = across == along
    lines += [f"cellsize {_text(across)}"] if same else [f"dx {_text(across)}", f"dy {_text(along)}"]
    lines.append(f"NODATA_value {int(void) if whole or float(void).is_integer() else repr(float(void))}")
    return "\n".join(lines) + "\n"


def _text(number: Fraction) -> str:
    """A float as short as reads back identical."""
    return f"{int(number)}" if number.denominator == 1 else repr(float(number))


def _exact(number: Fraction, good: Any) -> str:
    """`number` as a float's text if that is `good` enough, else with all its decimal places."""
    short = _text(number)
    if good(Fraction(short)):
        return short
    places = number.denominator.bit_length() - 1  # the denominator is a power of two
    scaled = number * 10**places
    digits = f"{abs(int(scaled)):0{places + 1}d}"
    return f"{'-' if number < 0 else ''}{digits[:-places]}.{digits[-places:]}".rstrip("0").rstrip(".")
