"""Legends: class code -> name and colour. Palettes are legends without names."""

from __future__ import annotations

import colorsys
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Colour = tuple[int, int, int]


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


@dataclass(frozen=True)
class Legend:
    """Classes in ascending order of code."""

    entries: tuple[LegendEntry, ...]

    @staticmethod
    def of(entries: Iterable[LegendEntry]) -> Legend:
        return Legend(tuple(sorted(entries)))

    def name(self, code: int) -> str:
        """Name of `code`, empty if it has none."""
        return next((entry.name for entry in self.entries if entry.code == code), "")

    @property
    def named(self) -> bool:
        return any(entry.name for entry in self.entries)

    def table(self, size: int = 256) -> npt.NDArray[np.uint8]:
        """Colours by code, shape (size, 3); codes that are not in the legend are black."""
        colours = np.zeros((size, 3), np.uint8)
        for code, _, colour in self.entries:
            if 0 <= code < size:
                colours[code] = colour
        return colours
