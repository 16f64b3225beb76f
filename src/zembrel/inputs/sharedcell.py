"""The cell size that results which lie side by side share."""

from __future__ import annotations

from collections.abc import Sequence

from zembrel.geodesy.crs import CRS
from zembrel.grid.extent import carried_cell
from zembrel.grid.frame import Frame
from zembrel.grid.soundness import sound_part
from zembrel.inputs.layers import Layer
from zembrel.inputs.lengths import cell_in_units_of
from zembrel.inputs.options import Where


class SharedCell:
    """The cell size of results that lie side by side: that of the finest layer, found once for each CRS."""

    def __init__(self, layers: Sequence[Layer], where: Where) -> None:
        self.layers, self._where = layers, where
        self._found: list[tuple[CRS | None, tuple[float, float]]] = []

    def in_units_of(self, crs: CRS | None) -> tuple[float, float]:
        """Along x and y. Raises InputError for a layer that has no place in `crs`."""
        for known, cell in self._found:
            if known is crs or known == crs:
                return cell
        cell = self._cell(crs)
        self._found.append((crs, cell))
        return cell

    def _cell(self, crs: CRS | None) -> tuple[float, float]:
        frames = [part_of(layer, crs, self._where) for layer in self.layers]
        if self._where.cell:
            return cell_in_units_of(self._where.cell, crs)
        sizes = [frame.cell if crs is None else carried_cell(frame, crs) for frame in frames]
        return min(size[0] for size in sizes), min(size[1] for size in sizes)


def part_of(layer: Layer, crs: CRS | None, where: Where) -> Frame:
    """The frame of a layer, or what of it has a sound place in `crs` if no area is asked for."""
    frame = layer.raster.frame
    return frame if crs is None or where.within else sound_part(frame, crs)
