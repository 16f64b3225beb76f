"""One worker against two, of verbs whose work is not the file: whole processes that take turns.

The first figure is of the machine: checksums by two threads against one. Two processors that share one core
come nowhere near a half, and no verb can do better than they.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from measure import ZEMBREL, Result, in_turn
from points import SCALING, flight
from scene import frame
from zembrel.engine.limits import Limits
from zembrel.engine.points import flow
from zembrel.engine.run import run
from zembrel.formats import load
from zembrel.geodesy.text import write_crs
from zembrel.grid.pane import Pane
from zembrel.points.las.laswriting import NewFile, las_sink
from zembrel.points.records import Layout
from zembrel.raster.model import Band, Block

SIDE, POINTS, ROUNDS = 5_000, 5_000_000, 2
LIMIT = 1 / 1.4


class Hills:
    """Hills of some hundred cells, or classes of their heights."""

    def __init__(self, classes: bool) -> None:
        self.frame, self.classes = frame(SIDE, SIDE), classes
        self.bands = (Band("height", "uint8" if classes else "float32"),)

    def cells(self, pane: Pane) -> Block:
        rows = np.arange(pane.top, pane.bottom, dtype=np.float32)[:, None]
        columns = np.arange(pane.left, pane.right, dtype=np.float32)
        z = 300 + 120 * np.sin(columns / 71) * np.cos(rows / 53) + 60 * np.sin((columns + 2 * rows) / 29)
        return Block((z // 40).astype(np.uint8)[None] if self.classes else z[None])


_CHECKSUMS = (
    sys.executable, "-c",
    "import hashlib, sys; from concurrent.futures import ThreadPoolExecutor as P; data = bytes(30_000_000);"
    "list(P(int(sys.argv[1])).map(lambda n: hashlib.sha256(data).digest(), range(32)))",
)  # fmt: skip
RUNS = (
    ("contour", "hills.tif", ("--interval", "20"), "o.parquet"),
    ("contour", "hills.tif", ("--interval", "80", "--filled"), "o.parquet"),
    ("polygonize", "classes.tif", (), "o.parquet"),
    ("tally", "hills.tif", ("--zones", "zones.csv", "--stat", "median"), "o.csv"),
    ("ground", "p.laz", (), "o.laz"),
    ("grid", "p.laz", ("--cell", "1m", "--surface", "tin"), "o.tif"),
    ("grid", "p.laz", ("--cell", "1m", "--stat", "mean"), "o.tif"),
)


def cases(folder: Path) -> Iterator[Result]:
    for name in ("hills", "classes"):
        view = Hills(name == "classes")
        sink = load("geotiff").make_sink(folder / f"{name}.tif", view.frame, view.bands, {"compress": "none"})
        run(view, sink, Limits())
    layout = Layout(6)
    new = NewFile(layout, SCALING, view.frame.crs, True, POINTS)
    flow((flight(layout, POINTS // 8, line) for line in range(8)), las_sink(folder / "p.laz", new), Limits())
    _write_zones(folder / "zones.csv")
    one, two = in_turn([*_CHECKSUMS, "1"], [*_CHECKSUMS, "2"], ROUNDS)
    yield Result("checksums, two threads to one", two.seconds / one.seconds, 1.0, "of the time")
    for verb, source, more, out in RUNS:
        base = [*ZEMBREL, verb, source, *more, "--out", out, "--replace", "--quiet", "--workers"]
        one, two = in_turn([*base, "1"], [*base, "2"], ROUNDS, folder)
        yield Result(
            f"{verb} {' '.join(more)}"[:44] + ", two workers to one", two.seconds / one.seconds, LIMIT,
            "of the time", f"{two.seconds:.1f} s against {one.seconds:.1f} s",
        )  # fmt: skip


def _write_zones(path: Path) -> None:
    """Triangles, 39 x 39 of them, on the hills."""
    corners = [(725_000 + 200 * i, 5_098_100 + 200 * j) for i in range(39) for j in range(39)]
    shapes = [f"POLYGON(({x} {y},{x + 190} {y + 20},{x + 150} {y + 180},{x} {y}))" for x, y in corners]
    path.write_text("n,wkt\n" + "".join(f'{n},"{shape}"\n' for n, shape in enumerate(shapes)))
    path.with_suffix(".prj").write_text(write_crs(frame(1, 1).crs, "prj"))
