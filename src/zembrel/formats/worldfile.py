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
from zembrel.reading import readings

UNPLACED = Affine(0.0, 0.0, 1.0, -1.0)  # of images that do not say where they are: cells as units


def world_file_name(image: Path) -> Path:
    """`map.png` -> `map.pgw`."""
    ending = image.suffix.lower().lstrip(".")
    return image.with_suffix("." + (ending[0] + ending[-1] if len(ending) > 1 else ending) + "w")


def write_world_file(frame: Frame) -> str:
    """The six lines of `frame`, each number as short as reads back identical."""
    a = frame.affine if frame.registration == "node" else frame.affine.shifted(Fraction(1, 2), Fraction(1, 2))
    return "".join(f"{value!r}\n" for value in (a.x_col, a.y_col, a.x_row, a.y_row, a.x0, a.y0))


def world_file_names(image: Path) -> list[Path]:
    """Where a world file may stand: `map.pgw`, `map.pngw`, `map.png.pgw`, `map.wld`, in either case."""
    names = [world_file_name(image), Path(f"{image}w"), image.with_suffix(".wld"), Path(f"{image}.wld")]
    names.insert(2, Path(f"{image}{world_file_name(image).suffix}"))
    spellings = [p for name in names for p in (name, name.with_suffix(name.suffix.upper()))]
    return list(dict.fromkeys(spellings))


def read_world_file(path: Path) -> Affine:
    """The affine of cell corners that a world file says. Raises InputError for anything but six numbers."""
    try:
        text = readings.note(path).read_text("ascii").replace(",", ".")
        x_col, y_col, x_row, y_row, x, y = (float(word) for word in text.split())
        return Affine(x, y, x_col, y_row, x_row, y_col).shifted(Fraction(-1, 2), Fraction(-1, 2))
    except (ValueError, OSError) as exc:
        raise InputError(
            f"world file {path} does not hold six numbers",
            "the image beside it would get no place or a wrong one",
            "correct it or move it away",
        ) from exc


def crs_beside(image: Path) -> CRS | None:
    """The CRS of the `.prj` beside `image`, if there is one; one that is not known stays unresolved."""
    spellings = (image.with_suffix(".prj"), Path(f"{image}.prj"), image.with_suffix(".PRJ"))
    beside = next((path for path in spellings if path.is_file()), None)
    if beside is None:
        return None
    text = readings.note(beside).read_text("utf-8", errors="replace").strip()
    try:
        return read_crs(text)
    except InputError:
        return UnresolvedCRS(text[:60])
