"""warm: compile all kernels once, for installations and containers."""

from __future__ import annotations

import importlib
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.engine.executor import Processes
from zembrel.engine.limits import Limits, each, processors
from zembrel.engine.points import flow
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.options import Output
from zembrel.opened.calls import call
from zembrel.owned import temporary
from zembrel.points.files import make_sink
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointBlock, Scaling
from zembrel.points.records import Layout
from zembrel.raster.kernels import compile_always
from zembrel.raster.model import Band, Block
from zembrel.raster.views.palette import RGB
from zembrel.results.receipt import Receipt
from zembrel.results.verboptions import options_of
from zembrel.verbs.terrain import NAMES

_HOME, _SIDE = 32626, 96
_METHODS = ("nearest", "bilinear", "cubic", "lanczos", "mean", "mode", "median", "sum")
_FEATURES = (
    '{"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32626"}}, '
    '"features": ['
    '{"type": "Feature", "properties": {"v": 1}, "geometry": {"type": "Polygon", "coordinates": '
    "[[[730100, 5099100], [730300, 5099900], [730800, 5099500], [730100, 5099100]]]}}]}"
)


@dataclass(frozen=True)
class Waves:
    """A small raster with voids, in memory."""

    frame: Frame
    bands: tuple[Band, ...]

    def cells(self, pane: Pane) -> Block:
        rows, columns = np.mgrid[pane.top : pane.bottom, pane.left : pane.right]
        wave = 60 + 50 * np.sin(rows / 7.0) * np.cos(columns / 9.0)
        cells = np.stack([wave + 9 * n for n in range(len(self.bands))]).astype(self.bands[0].dtype)
        return Block(cells, (rows + columns) % 31 > 2)


def _waves(kind: str, bands: int = 1) -> Waves:
    frame = Frame(by_code(_HOME), Affine(730_000, 5_100_000, 10, -10), _SIDE, _SIDE)
    named = RGB if bands == 3 and kind == "uint8" else tuple(Band(f"b{n}", kind) for n in range(bands))
    return Waves(frame, named)


# what is done with rasters of one type, with those of one band, with features and with points
OF_RASTERS: list[tuple[str, str, dict[str, Any]]] = [
    *(("reproject", "o.tif", {"crs": "EPSG:32627", "method": name}) for name in _METHODS),
    *(("resample", "o.tif", {"cell": "31m", "method": name}) for name in _METHODS),
    ("fill", "o.tif", {"reach": "4"}),
]  # fmt: skip
OF_ONE_BAND: list[tuple[str, str, dict[str, Any]]] = [
    ("contour", "o.geojson", {"interval": 9.0, "smooth": True}),
    ("contour", "o.geojson", {"interval": 9.0, "filled": True}),
    ("polygonize", "o.geojson", {"min_cells": 4, "smooth": True, "round": True}),
    ("trace", "o.geojson", {"spurs": 2}), ("sample", "o.csv", {"at": "places.geojson", "method": "cubic"}),
    ("tally", "o.csv", {"zones": "wood.geojson", "stat": ("mean", "median")}),
]  # fmt: skip
OF_HEIGHTS: list[tuple[str, str, dict[str, Any]]] = [
    ("terrain", "o.tif", {"of": NAMES, "reach": "3", "z_unit": "m", "cast": True}),
    ("terrain", "o.tif", {"of": ("hillshade",), "z_unit": "m"}),
]
OF_FEATURES: list[tuple[str, str, dict[str, Any]]] = [
    ("rasterize", "o.tif", {"cell": "10m"}), ("rasterize", "o.tif", {"cell": "10m", "touching": True}),
    ("rasterize", "o.tif", {"cell": "10m", "cover": True}), ("tally", "o.tif", {"cell": "20m"}),
]  # fmt: skip
OF_POINTS: list[tuple[str, str, dict[str, Any]]] = [
    ("grid", "o.tif", {"cell": "2m", "stat": ("mean", "max", "count")}),
    ("grid", "o.tif", {"cell": "2m", "surface": "tin", "spikes": "30m"}),
    ("grid", "o.tif", {"cell": "2m", "surface": "idw", "fill": "6m"}),
    ("thin", "o.las", {"spacing": "2m"}), ("thin", "o.las", {"cell": "5m"}),
    ("ground", "o.las", {"cell": 2.0}),
]  # fmt: skip


def warm(output: Output) -> Receipt:
    """Compile the kernels of all verbs, on all processors.

    They are kept where the program is, or in the cache folder of the user.
    """
    started = time.perf_counter()
    groups = list(GROUPS)
    pool = Processes(output.workers or processors(), len(groups))
    try:
        counts = list(each(groups, compiled, output.on(pool).limits, size=lambda name: 1, item_bytes=1))
    finally:
        pool.close()
    place, made = next((place for place, _ in counts if place), ""), sum(count for _, count in counts)
    seconds = time.perf_counter() - started
    return Receipt("warm", own={"kernels": made, "place": place, "seconds": round(seconds, 1)})


def compiled(group: str) -> tuple[str, int]:
    """Do the work of a group; where its kernels are kept and how many were compiled."""
    from numba.core import event

    compile_always()
    importlib.import_module("zembrel.compiling")
    folder = temporary()
    with event.install_recorder("numba:compile") as seen:
        for work in GROUPS[group](folder.path):
            work()
    folder.remove()
    kernel = importlib.import_module("zembrel.raster.kernels.halve").mean
    return str(Path(kernel.stats.cache_path)), sum(1 for _, e in seen.buffer if e.is_start)


def _calls(folder: Path, source: Any, runs: list[tuple[str, str, dict[str, Any]]]) -> Iterator[Any]:

    (folder / "wood.geojson").write_text(_FEATURES)
    point = '"Point", "coordinates": [730333, 5099555]'
    (folder / "places.geojson").write_text(_FEATURES[: _FEATURES.index('"Polygon"')] + point + "}}]}")
    for n, (verb, out, options) in enumerate(runs):
        words = {k: str(folder / v) if str(v).endswith(".geojson") else v for k, v in options.items()}
        words |= {"keep_empty": True} if "keep_empty" in options_of(verb) else {}
        yield lambda verb=verb, n=n, out=out, words=words: call(
            verb, source, str(folder / f"{n}{out}"), **words
        )


def _rasters(kind: str, bands: int) -> Any:
    runs = [*OF_RASTERS, *(OF_ONE_BAND if bands == 1 else ()), *(OF_HEIGHTS if kind == "float32" else ())]
    return lambda folder: _calls(folder, _waves(kind, bands), runs)


def _features(folder: Path) -> Iterator[Any]:
    (folder / "own.geojson").write_text(_FEATURES)
    yield from _calls(folder, str(folder / "own.geojson"), OF_FEATURES)
    yield from _calls(folder, _waves("uint8", 3), [("convert", "p.tif", {"palette": "8"})])


def _write(path: Path, number: int) -> Path:
    """A cloud of points of a format of LAS."""

    layout, count = Layout(number), 4000
    records = np.zeros(count, layout.dtype)
    chance = np.random.default_rng(1)
    for axis in "XYZ":
        records[axis] = chance.integers(0, 9000, count)
    block = PointBlock(records, layout, Scaling((0.01, 0.01, 0.01), (730_000.0, 5_099_000.0, 0.0)))
    block = block.having("return", 1).having("returns", 1)
    new = NewFile(layout, block.scaling, by_code(_HOME), path.suffix == ".laz", count)
    flow([block], make_sink(path, new, path), Limits(workers=1))
    return path


def _points(folder: Path) -> Iterator[Any]:
    yield from _calls(folder, str(_write(folder / "own.las", 6)), OF_POINTS)


def _packed(number: int) -> Any:
    def works(folder: Path) -> Iterator[Any]:
        path = folder / "own.laz"
        yield lambda: _write(path, number)
        yield from _calls(folder, str(path), [("convert", "o.las", {})])

    return works


GROUPS: dict[str, Any] = {
    "packed points of LAS 1.4": _packed(7), "packed points": _packed(3),
    "single floats": _rasters("float32", 1),
    "bytes": _rasters("uint8", 1), "photos": _rasters("uint8", 3), "short numbers": _rasters("int16", 1),
    "points": _points, "features": _features,
}  # fmt: skip
