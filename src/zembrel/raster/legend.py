"""Legends: class code -> name and colour. Palettes are legends without names."""

from __future__ import annotations

import colorsys
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

Colour = tuple[int, int, int]
BLACK: Colour = (0, 0, 0)


class LegendEntry(NamedTuple):
    """One class: its code, name (may be empty) and colour (red, green, blue of 0 to 255)."""

    code: int
    name: str
    colour: Colour


# Colours that readers of any colour vision tell apart. Source: M. Okabe, K. Ito, "Color universal design"
# (2008).
_TOLD_APART = (
    (0, 114, 178), (230, 159, 0), (0, 158, 115), (204, 121, 167), (86, 180, 233), (213, 94, 0),
    (240, 228, 66), (153, 153, 153),
)  # fmt: skip


def shade(number: int) -> Colour:
    """A colour for the class of that number, if it says none; from the ninth on hues by the golden angle."""
    if number < len(_TOLD_APART):
        return _TOLD_APART[number]
    red, green, blue = colorsys.hsv_to_rgb(number * 0.381966 % 1, 0.5, 0.85)
    return round(255 * red), round(255 * green), round(255 * blue)


def hex_of(colour: Colour) -> str:
    """`#rrggbb`."""
    return "#{:02x}{:02x}{:02x}".format(*colour)


def colour_told(text: object) -> Colour | None:
    """The colour of a text `#rrggbb`; None for any other."""
    found = re.fullmatch(r"#([0-9a-f]{2})([0-9a-f]{2})([0-9a-f]{2})", str(text).lower())
    return (int(found[1], 16), int(found[2], 16), int(found[3], 16)) if found else None


@dataclass(frozen=True)
class Legend:
    """Classes in ascending order of code."""

    entries: tuple[LegendEntry, ...]

    @staticmethod
    def of(entries: Iterable[LegendEntry]) -> Legend:
        return Legend(tuple(sorted(entries)))

    @staticmethod
    def of_table(colours: npt.NDArray[np.integer[Any]]) -> Legend:
        """The classes of a palette, (n, 3) by code; black is the colour of codes that are no class."""
        used = np.flatnonzero(colours.any(axis=1)).tolist()
        return Legend(tuple(LegendEntry(code, "", tuple(colours[code].tolist())) for code in used))

    @property
    def told_by_palette(self) -> bool:
        """Whether a palette of 256 colours says all there is to it."""
        return Legend.of_table(self.table()) == self

    def name(self, code: int) -> str:
        """Name of `code`, empty if it has none."""
        return next((entry.name for entry in self.entries if entry.code == code), "")

    @property
    def named(self) -> bool:
        return any(entry.name for entry in self.entries)

    def table(self) -> npt.NDArray[np.uint8]:
        """Colours of the codes of a palette, (256, 3)."""
        return self.colours_of(np.arange(256))

    def colours_of(self, codes: npt.NDArray[Any]) -> npt.NDArray[np.uint8]:
        """Colours of whole numbers, of their shape and 3; of those that are no class black."""
        held = np.array([entry.code for entry in self.entries], np.int64)
        colours = np.array([*(entry.colour for entry in self.entries), BLACK], np.uint8)
        place = np.searchsorted(held, codes.astype(np.int64))
        none = place == held.size
        none[~none] = held[place[~none]] != codes[~none]
        place[none] = held.size
        return np.asarray(colours[place])
