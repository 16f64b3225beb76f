"""The island as rasters that are computed when asked: what photos, relief and cover are sampled from."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zembrel.demo import island
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Array, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import Band, Block
from zembrel.raster.views.palette import RGB

HOME = 32626
LEGEND = Legend.of(LegendEntry(code, name, colour) for code, (name, colour) in island.CLASSES.items())
VOID = -32768
COLLAR = 1  # near black, as scanned film has it


def places(frame: Frame, pane: Pane) -> tuple[Array, Array]:
    """Metres from the island's middle of the cells of `pane`, row by row, (n,) each."""
    cols, rows = np.meshgrid(np.arange(pane.left, pane.right), np.arange(pane.top, pane.bottom))
    x, y = frame.centres(cols.ravel().astype(float), rows.ravel().astype(float))
    assert frame.crs is not None
    x, y = operation(frame.crs, by_code(HOME))(x, y)
    return x - island.MIDDLE[0], y - island.MIDDLE[1]


@dataclass(frozen=True)
class Photo:
    """A photo sheet: the scene inside a footprint turned by `turn` degrees, a dark collar around it.

    footprint: half sizes along its own axes in metres; 0, 0 is no collar.
    """

    frame: Frame
    footprint: tuple[float, float] = (0.0, 0.0)
    turn: float = 0.0
    bands: tuple[Band, ...] = RGB

    def cells(self, pane: Pane) -> Block:
        x, y = places(self.frame, pane)
        inside = self._inside(pane) if self.footprint[0] else np.ones(x.size, bool)
        colours = np.full((3, x.size), COLLAR, np.uint8)
        colours[:, inside] = np.floor(island.colours(x[inside], y[inside]) + 0.5)
        return Block(colours.reshape(3, *pane.shape))

    def _inside(self, pane: Pane) -> np.ndarray:
        cols, rows = np.meshgrid(np.arange(pane.left, pane.right), np.arange(pane.top, pane.bottom))
        east = (cols.ravel() + 0.5 - self.frame.columns / 2) * self.frame.cell[0]
        north = (self.frame.rows / 2 - rows.ravel() - 0.5) * self.frame.cell[1]
        turn = math.radians(self.turn)
        along = np.abs(east * math.cos(turn) + north * math.sin(turn))
        across = np.abs(north * math.cos(turn) - east * math.sin(turn))
        return (along <= self.footprint[0]) & (across <= self.footprint[1])


@dataclass(frozen=True)
class Relief:
    """Elevations on land in `type` cells; the sea is void."""

    frame: Frame
    type: str

    @property
    def bands(self) -> tuple[Band, ...]:
        nodata = VOID if self.type == "int16" else None
        return (Band("elevation", self.type, nodata, unit="m"),)

    def cells(self, pane: Pane) -> Block:
        heights = island.heights(*places(self.frame, pane)).reshape(1, *pane.shape)
        land = heights[0] > 0
        values = np.floor(heights + 0.5) if self.type == "int16" else heights
        return Block(values.astype(self.type), land)


@dataclass(frozen=True)
class Geoid:
    """Heights of the sea's level surface above the ellipsoid: it bulges over the island's mass."""

    frame: Frame
    bands: tuple[Band, ...] = (Band("height", "float32", unit="m"),)

    def cells(self, pane: Pane) -> Block:
        x, y = places(self.frame, pane)
        heights = 56.0 + x / 40_000 - y / 60_000 + 0.8 * np.exp(-(x**2 + y**2) / 6_000**2)
        return Block(heights.reshape(1, *pane.shape).astype(np.float32))


@dataclass(frozen=True)
class LandCover:
    """Codes of the land cover, with their legend."""

    frame: Frame
    bands: tuple[Band, ...] = (Band("cover", "uint8", legend=LEGEND),)

    def cells(self, pane: Pane) -> Block:
        return Block(island.classes(*places(self.frame, pane)).reshape(1, *pane.shape))
