"""Heights as the cells of pictures: 16 bits of grey, or 24 bits of red, green and blue."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

Cells = npt.NDArray[Any]
WAYS = ("grey", "colours")
_BASE, _STEP = -12_000.0, 0.01  # of colours, in metres: from the deepest trench up, to a centimetre


@dataclass(frozen=True)
class HeightCode:
    """Whole numbers for heights: height = base + step x number, in the unit of the heights.

    way: `grey` keeps number 0 for what is void; `colours` makes red, green and blue of a number, as 65536 red
    + 256 green + blue, and what is void is clear.
    """

    way: str
    base: float = _BASE
    step: float = _STEP

    @staticmethod
    def over(way: str, low: float, high: float) -> HeightCode:
        """The code of heights between two ends: of grey as fine as 16 bits allow, of colours a fixed one."""
        if way == "colours":
            return HeightCode(way)
        step = max((high - low) / 65_534, 1e-9)
        return HeightCode(way, low - step, step)

    @property
    def facts(self) -> dict[str, Any]:
        """The numbers of the formula."""
        number = "65536 red + 256 green + blue" if self.way == "colours" else "grey, where 0 is void"
        formula = f"height = base + step * ({number})"
        return {"way": self.way, "base": self.base, "step": self.step, "formula": formula}

    def coded(self, heights: Cells, valid: Cells | None) -> Cells:
        """(1, rows, columns) of 16 bits, or (3 or 4, rows, columns) of bytes.

        heights and valid: (rows, columns); valid: None for all.
        """
        most = 65_535 if self.way == "grey" else 2**24 - 1
        known = heights if valid is None else np.where(valid, heights, self.base)
        numbers = np.clip(np.rint((known.astype(np.float64) - self.base) / self.step), 0, most).astype(
            np.uint32
        )
        if self.way == "grey":
            held = np.maximum(numbers, 1) if valid is None else np.where(valid, np.maximum(numbers, 1), 0)
            return held.astype(np.uint16)[None]
        parts = [numbers >> 16, numbers >> 8 & 255, numbers & 255]
        parts += [] if valid is None else [np.where(valid, 255, 0)]
        return np.stack(parts).astype(np.uint8)
