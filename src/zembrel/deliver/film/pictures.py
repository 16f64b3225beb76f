"""Pictures of a film: colours of a view over a background, with a stamp, and blends between two of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.raster.model import Raster, has_alpha

Picture = npt.NDArray[np.uint8]  # (rows, columns, 3)
_BEHIND = (236, 234, 228)
_STRIP = 256  # rows


@dataclass(frozen=True, eq=False)
class Still:
    """A view of red, green and blue bytes, or of grey, and what is written on it."""

    view: Raster
    stamp: str = ""

    def __call__(self) -> Picture:
        """The picture. What is void, or clear, shows the background."""
        rows, columns = self.view.frame.pane.shape
        made = np.empty((rows, columns, 3), np.uint8)
        for pane in self.view.frame.pane.blocks(_STRIP, columns):
            block = self.view.cells(pane)
            alpha = block.cells[-1:] / 255 if has_alpha(self.view.bands) else np.ones((1, *pane.shape))
            share = np.moveaxis(alpha * block.anywhere, 0, -1)
            colours = np.moveaxis(block.cells[:3] if len(block.cells) >= 3 else block.cells[:1], 0, -1)
            made[pane.top : pane.bottom] = np.rint(colours * share + np.array(_BEHIND) * (1 - share))
        return stamped(made, self.stamp) if self.stamp else made


def stamped(picture: Picture, text: str) -> Picture:
    """`text` at the lower left, light with a dark rim."""
    import matplotlib
    from PIL import Image, ImageDraw, ImageFont

    size = max(12, len(picture) // 22)
    font = ImageFont.truetype(Path(matplotlib.get_data_path()) / "fonts/ttf/DejaVuSans-Bold.ttf", size)
    shown = Image.fromarray(picture)
    at = (size * 0.7, len(picture) - size * 0.7)
    pen = ImageDraw.Draw(shown)
    pen.text(at, text, "white", font, anchor="ls", stroke_width=max(1, size // 10), stroke_fill="#2b2b2b")
    return np.asarray(shown)


def faded(pictures: Iterable[Picture], between: int) -> Iterator[Picture]:
    """The pictures with so many blends between each two of them."""
    last: Picture | None = None
    for picture in pictures:
        if last is not None:
            for n in range(1, between + 1):
                share = n / (between + 1)
                blend: Any = last * (1 - share) + picture * share
                yield np.rint(blend).astype(np.uint8)
        yield picture
        last = picture
