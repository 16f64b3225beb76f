"""A raster as lines of coloured half blocks for a terminal."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from PIL import Image

from zembrel.draw.colouring import ColouredCells, Look, painted
from zembrel.draw.ramps import colour_map
from zembrel.draw.reduced import Picture
from zembrel.engine.limits import Limits
from zembrel.geodesy.crs import label
from zembrel.grid.extent import ground
from zembrel.measure import show_number
from zembrel.raster.model import Raster

_UPPER, _END = "\u2580", "\x1b[0m"  # a character whose upper half is ink
_SHADES = " .:-=+*#%@"


def in_terminal(view: Raster, look: Look, limits: Limits, columns: int, coloured: bool) -> str:
    """Lines as wide as the terminal: two rows of the picture in each, and what colours mean below.

    coloured: whether colours may be used; else shades are characters.
    """
    made = painted(view, look, limits, max(2 * columns, 200))
    west, south, east, north = made.frame.bounds
    per_x, per_y = ground(made.frame)
    shape = (north - south) * per_y / max((east - west) * per_x, 1e-12)
    rows = max(1, round(columns * shape / 2)) * 2
    image = _sized(made.image, rows, columns)
    lines = list(_half_blocks(image) if coloured else _characters(image))
    return "\n".join([*lines, *_key(made, columns, coloured)]) + "\n"


def _sized(image: Picture, rows: int, columns: int) -> Picture:
    """The picture in so many rows and columns, each the mean of what it shows."""
    small = Image.fromarray(np.ascontiguousarray(image)).resize((columns, rows), Image.Resampling.BOX)
    return np.asarray(small)


def _plain(text: str) -> str:
    """Text of a file without what could steer a terminal."""
    return "".join(sign if sign.isprintable() else "?" for sign in text)


def _half_blocks(image: Picture) -> Iterator[str]:
    for upper, lower in zip(image[::2].tolist(), image[1::2].tolist(), strict=True):
        line, before = [], ""
        for one, other in zip(upper, lower, strict=True):
            top, bottom = one[3] >= 128, other[3] >= 128
            if not top and not bottom:
                code, sign = _END, " "
            elif not bottom:
                code, sign = f"{_END}\x1b[38;2;{one[0]};{one[1]};{one[2]}m", _UPPER
            elif not top:
                code, sign = f"{_END}\x1b[38;2;{other[0]};{other[1]};{other[2]}m", "\u2584"
            else:
                code = f"\x1b[38;2;{one[0]};{one[1]};{one[2]};48;2;{other[0]};{other[1]};{other[2]}m"
                sign = _UPPER
            line.append(sign if code == before else code + sign)
            before = code
        yield "".join(line) + _END


def _characters(image: Picture) -> Iterator[str]:
    light = image[..., :3].astype(float) @ np.array([0.2126, 0.7152, 0.0722]) / 256
    shades = np.where(image[..., 3] >= 128, (light * len(_SHADES)).astype(int), -1)
    for line in shades[::2].tolist():
        yield "".join(" " if shade < 0 else _SHADES[shade] for shade in line).rstrip()


def _key(made: ColouredCells, columns: int, coloured: bool) -> Iterator[str]:
    """The CRS, and what colours mean."""
    key = made.key
    if key is not None and key.ramp:
        low, high = (show_number(float(f"{value:.4g}")) for value in key.limits)
        unit = f" {_plain(key.band.unit)}" if key.band.unit else ""
        width = max(columns - len(low) - len(high) - len(unit) - 4, 8)
        colours = (
            (np.asarray(colour_map(key.ramp)(np.linspace(0, 1, width)))[:, :3] * 255).astype(int).tolist()
        )
        bar = "".join(f"\x1b[38;2;{r};{g};{b}m\u2588" for r, g, b in colours) + _END if coloured else _SHADES
        yield f"{low} {bar} {high}{unit}"
    elif key is not None and key.band.legend is not None:
        for entry in key.band.legend.entries:
            if entry.name:
                red, green, blue = entry.colour
                mark = f"\x1b[38;2;{red};{green};{blue}m\u2588\u2588{_END} " if coloured else ""
                yield f"{mark}{entry.code} {_plain(entry.name)}"
    yield _plain(label(made.frame.crs))
