"""Which cells of a frame a polygon covers."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.features.scanned import Scanned, outlines
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band

Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class PolygonCover:
    """Cells of `frame` inside `polygon`, which is in the frame's CRS.

    A cell is inside if its middle is (even-odd rule); with `touching` also if the outline meets it.
    """

    frame: Frame
    polygon: shapely.Geometry
    touching: bool = False

    @cached_property
    def _scanned(self) -> Scanned:
        drawn = outlines([self.polygon], [1.0], self.frame, touching=self.touching)
        return Scanned(self.frame, (Band("inside", "uint8"),), drawn)

    def inside(self, pane: Pane) -> Mask:
        """(rows, columns) of `pane`."""
        return self._scanned.cells(pane).valid_of(0)
