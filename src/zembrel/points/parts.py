"""Parts of a mask that comes in panes: how many cells they have, and where the largest lies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.scipypart import scipy


@dataclass
class Parts:
    """Cells in all, those of the largest part within a pane, and the row and column of its middle."""

    cells: int = 0
    most: int = 0
    row: float = 0.0
    column: float = 0.0

    def add(self, mask: npt.NDArray[np.bool_], pane: Pane) -> None:
        """Enter what a pane has of it."""
        if not mask.any():
            return
        labels, _ = scipy("ndimage").label(mask, np.ones((3, 3), bool))
        sizes = np.bincount(labels.ravel())
        sizes[0] = 0
        self.cells += int(sizes.sum())
        if sizes.max() > self.most:
            rows, columns = np.nonzero(labels == sizes.argmax())
            self.most = int(sizes.max())
            self.row, self.column = pane.top + float(rows.mean()), pane.left + float(columns.mean())
