"""The cells of pictures, by way of the picture and codec packages."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError
from zembrel.raster.model import Cells

PNG_MARK = b"\x89PNG\r\n\x1a\n"
# what the picture package says of files that are not whole
BROKEN = (OSError, SyntaxError, ValueError, EOFError, OverflowError, TypeError, LookupError, AttributeError)
_STRIP = 512  # rows


def see_through(picture: Any) -> bool:
    """Whether a palette has colours that can be seen through in part: those are colours, not codes."""
    clear = picture.info.get("transparency") if picture.mode == "P" else None
    return picture.mode == "PA" or (isinstance(clear, bytes) and any(0 < value < 255 for value in clear))


def png_depth(path: Path) -> tuple[int, int] | None:
    with path.open("rb") as file:
        head = file.read(26)
    return (head[24], head[25]) if head[:8] == PNG_MARK and len(head) == 26 else None


def decode(path: Path) -> Cells:
    from PIL import Image

    try:
        if (png_depth(path) or (8, 0))[0] == 16:
            return _deep(path)
        with Image.open(path) as picture:
            picture.load()
            return _cells_of(picture)
    except BROKEN as exc:
        raise broken(path, exc) from exc


def _cells_of(picture: Any) -> Cells:
    """The cells of a picture that is decoded, (rows, columns, samples); taken in strips, so that it is held
    twice and not more often."""
    columns, rows = picture.size
    mode, clear = picture.mode, None
    if see_through(picture):
        mode = "RGBA"
    elif mode in ("CMYK", "YCbCr", "LAB", "HSV"):
        mode = "RGB"
    elif mode in ("P", "L"):
        clear = picture.info.get("transparency")
    whole: Cells | None = None
    for top in range(0, rows, _STRIP):
        part = picture.crop((0, top, columns, min(top + _STRIP, rows)))
        cells = _samples(np.asarray(part if part.mode == mode else part.convert(mode)), clear)
        if whole is None:
            whole = np.empty((rows, *cells.shape[1:]), cells.dtype)
        whole[top : top + len(cells)] = cells
    assert whole is not None
    return whole


def _samples(cells: Cells, clear: int | bytes | None) -> Cells:
    """Cells of a part of a picture with their samples last; clear: what can be seen through."""
    if cells.dtype == bool:
        cells = cells.astype(np.uint8) * 255
    if cells.dtype == np.int32:
        cells = cells.astype(np.uint16)
    cells = cells[:, :, None] if cells.ndim == 2 else cells
    return cells if clear is None else np.dstack([cells, _opacity(clear)[cells]])


def _deep(path: Path) -> Cells:
    import imagecodecs

    try:
        cells: Cells = imagecodecs.png_decode(path.read_bytes())
    except (imagecodecs.PngError, *BROKEN) as exc:
        raise broken(path, exc) from exc
    return cells[:, :, None] if cells.ndim == 2 else cells


def _opacity(clear: int | bytes) -> Cells:
    """Alpha of each of the 256 codes of a palette."""
    opacity = np.full(256, 255, np.uint8)
    if isinstance(clear, bytes):
        opacity[: len(clear)] = np.frombuffer(clear, np.uint8)
    else:
        opacity[clear] = 0
    return opacity


def broken(path: Path, cause: Exception) -> InputError:
    return InputError(f"{path} is broken", f"{cause}", "get the file again, or leave it out")
