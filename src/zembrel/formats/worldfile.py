"""World files: six numbers beside an image that say where its cells lie.

Lines: x step along a row, y step along a row, x step down, y step down, x and y of the middle of
the first cell. The name ends in the first and last letter of the image's ending and a w.
"""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.text import read_crs
from zembrel.grid.frame import Affine, Frame

UNPLACED = Affine(0.0, 0.0, 1.0, -1.0)  # of images that do not say where they are: cells as units


def world_file_name(image: Path) -> Path:
    """`map.png` -> `map.pgw`."""
    ending = image.suffix.lower().lstrip(".")
    return image.with_suffix("." + (ending[0] + ending[-1] if len(ending) > 1 else ending) + "w")


def write_world_file(frame: Frame) -> str:
    """The six lines of `frame`, each number as short as reads back identical."""
    a = frame.affine if frame.registration == "node" else frame.affine.shifted(Fraction(1, 2), Fraction(1, 2))
    return "".join(f"{value!r}\n" for value in (a.x_col, a.y_col, a.x_row, a.y_row, a.x0, a.y0))


def georeferenced(image: Path, columns: int, rows: int) -> Frame:
    """The frame that files beside `image` give it, else one in plain cells without a CRS.

    Raises InputError if the world file does not hold six numbers.
    """
    affine = UNPLACED
    for beside in (world_file_name(image), image.with_suffix(".wld"), Path(f"{image}w")):
        if beside.is_file():
            centre = _read_world_file(beside)
            affine = centre.shifted(Fraction(-1, 2), Fraction(-1, 2))
            break
    return Frame(crs_beside(image), affine, columns, rows)


def _read_world_file(path: Path) -> Affine:
    try:
        x_col, y_col, x_row, y_row, x, y = (float(word) for word in path.read_text("ascii").split())
        return Affine(x, y, x_col, y_row, x_row, y_col)
    except (ValueError, OSError) as exc:
        raise InputError(
            f"world file {path} does not hold six numbers",
            "the image beside it would get no place or a wrong one",
            "correct it or move it away",
        ) from exc


def crs_beside(image: Path) -> CRS | None:
    """The CRS of the `.prj` beside `image`, if there is one; one that is not known stays unresolved."""
    beside = image.with_suffix(".prj")
    if not beside.is_file():
        return None
    text = beside.read_text("utf-8", errors="replace").strip()
    try:
        return read_crs(text)
    except InputError:
        return UnresolvedCRS(text[:60])
