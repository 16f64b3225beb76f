"""Cells to shapes and back against labelling, drawing, contouring and summing of general packages."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import contourpy
import numpy as np
import shapely
from PIL import Image, ImageDraw
from scipy import ndimage

from measure import Result, used
from scene import frame
from zembrel.engine.limits import Limits, stage
from zembrel.engine.run import observe, run
from zembrel.features.scanned import Scanned, outlines
from zembrel.features.zonal import ZoneSums, zone_outlines
from zembrel.formats import load
from zembrel.formats.whole import whole_sink
from zembrel.grid.pane import Pane
from zembrel.passes.survey import blocks_of
from zembrel.raster.isolines import Isolines
from zembrel.raster.kernels import contour
from zembrel.raster.kernels import outlines as rings
from zembrel.raster.model import Band, Block
from zembrel.raster.regions import Found, RegionOutlines, RegionSweep

SIDE, CLASSES, POLYGONS, ZONES = 10_000, 5, 100_000, 10_000
ROUNDS = 3
STRIP = 2_000_000
PLAIN = (0.0, 1.0, 0.0, 0.0, 0.0, -1.0)


class Held:
    """An array as a raster."""

    def __init__(self, cells: np.ndarray) -> None:
        self.frame, self.held = frame(cells.shape[1], cells.shape[0]), cells
        self.bands = (Band("value", cells.dtype.name),)

    def cells(self, pane: Pane) -> Block:
        return Block(self.held[None, *pane.within(self.frame.pane)])


def cases(folder: Path) -> Iterator[Result]:
    surface = {smooth: _smooth(smooth) for smooth in (3.7, 40.0)}
    for smooth, name in ((3.7, "a million regions"), (40.0, "few regions")):
        yield _polygonize(_classes(surface[smooth]), name)
    yield _contours(surface[40.0], "a smooth surface")
    yield _contours(surface[3.7][:4000, :4000], "a rough surface, 4,000 square")
    yield _zones(surface[3.7])
    del surface
    yield _rasterize()
    yield from _memory(folder)


def _smooth(width: float) -> np.ndarray:
    noise = np.random.default_rng(1).standard_normal((SIDE, SIDE), dtype=np.float32)
    return ndimage.gaussian_filter(noise, width)


def _classes(surface: np.ndarray) -> np.ndarray:
    cuts = np.quantile(surface[::7, ::7], np.arange(1, CLASSES) / CLASSES)
    return np.digitize(surface, cuts).astype(np.uint8)


def _pair(ours: Callable[[], object], theirs: Callable[[], object]) -> tuple[float, float]:
    """Least seconds of either, in turns; each is warmed up by its own first round."""
    least = [np.inf, np.inf]
    ours()
    for _ in range(ROUNDS):
        for n, work in enumerate((ours, theirs)):
            started = time.perf_counter()
            work()
            least[n] = min(least[n], time.perf_counter() - started)
    return least[0], least[1]


def _result(name: str, pair: tuple[float, float], limit: float) -> Result:
    return Result(name, pair[0] / pair[1], limit, note=f"{pair[0]:.2f} s against {pair[1]:.2f} s")


def _polygonize(cells: np.ndarray, name: str) -> Result:
    """Regions with all their outlines in coordinates, against labels of each class."""
    found = []

    def ours() -> None:
        def swept() -> Iterator[object]:
            sweep = RegionSweep(SIDE)
            for top in range(0, SIDE, STRIP // SIDE):
                yield sweep.strip(cells[top : top + STRIP // SIDE], None)
            yield sweep.finish()

        outlined, count = RegionOutlines(), 0

        def closed(done: Found) -> int:
            rings.closed(done.corners, done.starts, done.order, PLAIN)
            return int(done.values.size)

        for regions in stage((outlined.take(part) for part in swept()), closed, Limits()):
            count += regions
        found.append(count)

    def theirs() -> None:
        for kind in range(CLASSES):
            ndimage.label(cells == kind)

    pair = _pair(ours, theirs)
    return _result(f"polygonize {SIDE:,} square, {name} ({found[0]:,})", pair, 1.0)


def _contours(surface: np.ndarray, name: str) -> Result:
    levels = np.linspace(*np.quantile(surface[::7, ::7], [0.02, 0.98]), 12)
    z = surface.astype(np.float64)

    def ours() -> None:
        sweeps = [Isolines(level, z.shape[1]) for level in levels]
        step = STRIP // z.shape[1]
        for top in range(0, len(z) - 1, step):
            part = z[top : top + step + 1]
            seen = contour.glances(part)
            for sweep in sweeps:
                sweep.strip(part, seen)
        for sweep in sweeps:
            sweep.finish()

    def theirs() -> None:
        generator = contourpy.contour_generator(z=z, name="serial")
        for level in levels:
            generator.lines(level)

    return _result(f"contours of {name}, 12 levels", _pair(ours, theirs), 1.5)


def _zones(surface: np.ndarray) -> Result:
    """Means in zones between random points, edge cells by their share; against a ready array of labels."""
    chance = np.random.default_rng(2)
    source = Held(surface)
    west, _, _, north = source.frame.bounds
    across, along = source.frame.cell
    seeds = chance.uniform(0, SIDE, (ZONES, 2))
    whole = shapely.box(0, 0, SIDE, SIDE)
    parts = shapely.voronoi_polygons(shapely.MultiPoint(seeds), extend_to=whole)
    parts = shapely.intersection(shapely.get_parts(parts), whole)
    scale = np.array([across, -along])
    zones = shapely.transform(parts, lambda points: points * scale + (west, north))
    labels = np.zeros((SIDE, SIDE), np.int32)
    drawn = Scanned(
        source.frame, (Band("zone", "int32"),), outlines(zones, np.arange(len(zones)), source.frame)
    )
    for pane in source.frame.pane.blocks(1000, SIDE):
        labels[pane.top : pane.bottom] = drawn.cells(pane).cells[0]
    index, panes = np.arange(len(zones)), blocks_of(source)

    def ours() -> object:
        sums = ZoneSums(zone_outlines(zones, source.frame), len(zones))
        observe(source, panes, [sums], Limits())
        return sums.result("mean")

    pair = _pair(ours, lambda: ndimage.mean(surface, labels, index))
    return _result(f"mean of {len(zones):,} zones over {SIDE:,} square", pair, 1.0)


def _rasterize() -> Result:
    chance = np.random.default_rng(3)
    middles = chance.uniform(0, SIDE, (POLYGONS, 1, 2))
    turns = np.sort(chance.uniform(0, 2 * np.pi, (POLYGONS, 12)), axis=1)
    reach = chance.uniform(8, 40, (POLYGONS, 12))
    points = middles + np.stack([reach * np.cos(turns), reach * np.sin(turns)], axis=2)
    where = frame(SIDE, SIDE)
    west, _, _, north = where.bounds
    across, along = where.cell
    placed = np.stack([west + points[..., 0] * across, north - points[..., 1] * along], axis=2)
    shapes, values = shapely.polygons(placed), np.arange(POLYGONS) % 251 + 1
    flat = [list(map(tuple, ring)) for ring in points.tolist()]

    def ours() -> None:
        drawn = Scanned(where, (Band("value", "uint8"),), outlines(shapes, values, where))
        run(drawn, whole_sink(where, drawn.bands, lambda cells, valid: None), Limits())

    def theirs() -> None:
        picture = Image.new("L", (SIDE, SIDE))
        draw = ImageDraw.Draw(picture)
        for ring, value in zip(flat, values.tolist(), strict=True):
            draw.polygon(ring, fill=value)
        np.asarray(picture)

    return _result(f"rasterize {POLYGONS:,} polygons onto {SIDE:,} square", _pair(ours, theirs), 1.0)


def _memory(folder: Path) -> Iterator[Result]:
    """The whole verb, file and all, on 10,000 and 20,000 square of the same texture."""
    taken = []
    for side in (SIDE, 2 * SIDE):
        path, out = folder / f"c{side}.tif", folder / f"c{side}.gpkg"
        used([sys.executable, str(Path(__file__)), str(path), str(side)])
        usage = used([sys.executable, "-m", "zembrel", "polygonize", str(path), "--out", str(out)])
        taken.append(usage.memory)
        note = f"{usage.memory / 1e6:.0f} MB, {usage.seconds:.0f} s, file {out.stat().st_size / 1e6:.0f} MB"
        yield Result(f"polygonize a file of {side:,} square, memory", usage.memory / 1e6, 700, "MB", note)
        out.unlink()
    yield Result("its memory at 20,000 against 10,000", taken[1] / taken[0], 1.15)


def make(path: Path, side: int) -> None:
    """The classes as a file, next to each other until they fill `side` cells."""
    times = side // SIDE
    view = Held(np.tile(_classes(_smooth(3.7)), (times, times)))
    run(view, load("geotiff").make_sink(path, view.frame, view.bands, {"overviews": "no"}), Limits())


if __name__ == "__main__":
    make(Path(sys.argv[1]), int(sys.argv[2]))
