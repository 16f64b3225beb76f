"""Large images for the benches, made block by block: smooth ground, texture and noise, like a photo."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrel.engine.limits import Limits
from zembrel.engine.run import run
from zembrel.formats import load
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block
from zembrel.raster.views.palette import RGB


@dataclass(frozen=True)
class Scene:
    """Waves of some hundred cells with grain of +-6 levels, in every band another phase."""

    frame: Frame
    bands: tuple[Band, ...] = RGB

    def cells(self, pane: Pane) -> Block:
        rows = np.arange(pane.top, pane.bottom, dtype=np.float32)[:, None]
        cols = np.arange(pane.left, pane.right, dtype=np.float32)
        noise = np.random.default_rng((pane.top, pane.left))
        out = np.empty((len(self.bands), *pane.shape), np.uint8)
        for n in range(len(self.bands)):
            wave = np.sin(cols / 71 + n) * np.cos(rows / 53 - n) + np.sin((cols + 2 * rows) / 239)
            out[n] = 128 + 45 * wave + noise.integers(-6, 7, pane.shape)
        return Block(out)


def frame(columns: int, rows: int, code: int = 32626, left: float = 725_000, top: float = 5_106_000) -> Frame:
    """A frame of 1 m cells near Marrowick."""
    return Frame(by_code(code), Affine(left, top, 1.0, -1.0), columns, rows)


def write_scene(path: Path, where: Frame, bands: tuple[Band, ...] = RGB, overviews: str = "no") -> None:
    """A Deflate GeoTIFF of the scene at `path`."""
    sink = load("geotiff").make_sink(path, where, bands, {"overviews": overviews, "compress": "deflate:6"})
    run(Scene(where, bands), sink, Limits())
