"""Size and position of the parts of a mask that is read pane by pane."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zembrel.grid.pane import Pane
from zembrel.scipypart import scipy


@dataclass
class Parts:
    """Total cells, the cells of the largest part within a pane, and row and column of its centre."""

    cells: int = 0
    most: int = 0
    row: float = 0.0
    column: float = 0.0

    def add(self, mask: npt.NDArray[np.bool_], pane: Pane) -> None:
        """Add the part of the mask in `pane`."""
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
