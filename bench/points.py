"""Point clouds: the coder of LAZ by the core; reading, cells and triangles against others; memory."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from scipy.spatial import Delaunay

from measure import ZEMBREL, Result, used
from zembrel.engine.limits import Limits
from zembrel.engine.points import flow
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.points.gridding.spool import Spool
from zembrel.points.gridding.statistic import PointStatistic
from zembrel.points.gridding.surfaced import Surfaced, Triangles
from zembrel.points.gridding.tallied import tally
from zembrel.points.las.lasreading import open_las
from zembrel.points.las.laswriting import NewFile, las_sink
from zembrel.points.laz.chunks import ChunkCodec
from zembrel.points.model import PointBlock, Scaling
from zembrel.points.records import Layout, put_values
from zembrel.raster.model import Band

CHUNK, ROUNDS = 50_000, 5
SCALING = Scaling((0.01, 0.01, 0.01), (730_000.0, 5_090_000.0, 0.0))
MILLION = 1_000_000


def flight(layout: Layout, count: int, line: int = 0) -> PointBlock:
    """A flight line: a scan to and fro across 600 m, up to three returns, intensities, two classes."""
    random = np.random.default_rng(line)
    made = np.zeros(count, layout.dtype)
    k = np.arange(count)
    row, at = k // 1000, k % 1000
    across = np.where(row % 2, 1000 - at, at)
    made["X"] = across * 60 + random.normal(0, 4, count).astype(int) + line * 52_000
    made["Y"] = row * 70 + at * 70 // 1000 + random.normal(0, 4, count).astype(int)
    relief = 3000 * np.sin(made["X"] / 9000) + 2000 * np.cos(made["Y"] / 15_000)
    made["Z"] = (relief + random.normal(0, 6, count)).astype(int)
    made["intensity"] = np.clip(300 + 80 * np.sin(k / 500) + random.normal(0, 40, count), 0, 65_535)
    chance = random.random(count)
    returns = np.where(chance < 0.75, 1, np.where(chance < 0.93, 2, 3))
    number = np.minimum(returns, 1 + random.integers(0, 3, count) % returns)
    for name, values in (("return", number), ("returns", returns), ("direction", row % 2)):
        put_values(made, layout, name, values)
    put_values(made, layout, "class", np.where(random.random(count) < 0.9, 2, 5))
    put_values(made, layout, "scan_angle", (across - 500) // 25)
    made["source"] = 7 + line
    made["gps_time"] = 300_000 + line * 1000 + np.round(k * 2e-6, 6)
    return PointBlock(made, layout, SCALING)


def cases(folder: Path) -> Iterator[Result]:
    yield from _large(folder)  # first: a process begins with the memory of the one that starts it
    for number, slowest in ((1, (2.8, 4.0)), (6, (2.0, 2.2))):
        yield from _coder(number, *slowest)
    yield from _first_use(folder)
    yield _las(folder)
    yield _mean()
    yield _triangles()


def _least(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    times = []
    for _ in range(rounds):
        started = time.perf_counter()
        work()
        times.append(time.perf_counter() - started)
    return min(times)


def _coder(number: int, decode: float, encode: float) -> Iterator[Result]:
    """Millions of points a second of one core; decode, encode: the least that is asked."""
    layout = Layout(number)
    raw = flight(layout, MILLION).records.view(np.uint8).reshape(MILLION, -1)
    codec, parts = ChunkCodec(layout), [raw[k : k + CHUNK] for k in range(0, MILLION, CHUNK)]
    packed = [np.frombuffer(codec.encode(part), np.uint8) for part in parts]
    size = sum(map(len, packed)) / MILLION
    for data, part in zip(packed, parts, strict=True):
        assert (codec.decode(data, len(part))[0] == part).all()
    for name, asked, work in (
        ("decode", decode, lambda: [codec.decode(data, CHUNK) for data in packed]),
        ("encode", encode, lambda: [codec.encode(part) for part in parts]),
    ):
        seconds = _least(work)
        note = f"{1 / seconds:.2f} million a second, {size:.2f} bytes a point"
        yield Result(f"LAZ {name}, format {number}", seconds, 1 / asked, "us a point", note)


def _first_use(folder: Path) -> Iterator[Result]:
    path = folder / "first.laz"
    _write(path, Layout(6), 1, 20_000)
    environment = os.environ | {"NUMBA_CACHE_DIR": str(folder / "kernels")}
    seconds = []
    for _ in range(4):
        started = time.perf_counter()
        subprocess.run([*ZEMBREL, "describe", str(path)], env=environment, check=True, capture_output=True)
        seconds.append(time.perf_counter() - started)
    yield Result("describe of a LAZ, first use after install", seconds[0], 20, "s")
    yield Result("describe of a LAZ, later", min(seconds[1:]), 1.5, "s")


def _write(path: Path, layout: Layout, lines: int, points: int) -> None:
    new = NewFile(layout, SCALING, by_code(32626), path.suffix == ".laz")
    flow((flight(layout, points, line) for line in range(lines)), las_sink(path, new), Limits())


def _las(folder: Path) -> Result:
    path = folder / "plain.las"
    _write(path, Layout(6), 10, MILLION)
    source = open_las(path)

    def ours() -> None:
        for part in source.parts:
            source.read(part)

    def theirs() -> None:
        mapped = np.memmap(path, np.uint8, "r")
        for at in range(0, len(mapped), 30 * (1 << 18)):
            mapped[at : at + 30 * (1 << 18)].copy()

    ours(), theirs()
    pair = _least(ours), _least(theirs)
    path.unlink()
    return Result(
        "LAS reading against a memory-mapped copy", pair[0] / pair[1], 1 / 0.6, note=f"{pair[0]:.3f} s"
    )


def _mean() -> Result:
    """Means of 30 million points on 1,000 x 1,000 cells, against one histogram of sums and one of counts."""
    random = np.random.default_rng(4)
    lines = 30
    blocks = [flight(Layout(6), MILLION, line) for line in range(lines)]
    x, y, z = (np.concatenate([getattr(block, axis) for block in blocks]) for axis in "xyz")
    west, south, east, north = x.min(), y.min(), x.max(), y.max()
    side = 1000
    frame = Frame(None, Affine(west, north, (east - west) / side, -(north - south) / side), side, side)
    found = []

    def ours() -> None:
        found[:] = tally(iter(blocks), frame, [PointStatistic("mean")], 1.0)

    def theirs() -> None:
        edges = [np.linspace(south, north, side + 1), np.linspace(west, east, side + 1)]
        counts, *_ = np.histogram2d(y, x, edges)
        sums, *_ = np.histogram2d(y, x, edges, weights=z)
        with np.errstate(invalid="ignore"):
            found[1:] = [sums[::-1] / counts[::-1]]

    ours()
    one = _least(ours, 3)
    two = _least(theirs, 2)
    del random
    agree = np.nanmean(np.abs(found[0] - found[1]) < 1e-6)
    note = (
        f"{one:.2f} s against {two:.2f} s, {two / one:.1f} times as fast, {100 * agree:.2f} % of cells agree"
    )
    return Result("grid --stat mean, 30 million points, of numpy.histogram2d", one / two, 1 / 8, note=note)


def _triangles() -> Result:
    """A surface of 5 million points, all blocks, against the triangulation of all points alone."""
    random = np.random.default_rng(5)
    count, side = 5 * MILLION, 1200
    records = np.zeros(count, Layout(6).dtype)
    records["X"], records["Y"] = (random.random((2, count)) * side * 100).astype(int)
    records["Z"] = (1000 * np.sin(records["X"] / 9000)).astype(int)
    block = PointBlock(records, Layout(6), Scaling((0.01, 0.01, 0.01), (0.0, 0.0, 0.0)))
    frame = Frame(None, Affine(0.0, float(side), 1.0, -1.0), side, side)

    def ours() -> None:
        spool = Spool.over(frame, 11.0, ["z"], count)
        spool.add(block, {"z": block.z})
        surface = Surfaced(spool, (Band("height", "float32"),), Triangles(5.0), 11.0)
        panes = list(frame.pane.blocks(256, 256))
        for _ in Limits().executor(256 * 256 * 4).map(surface.cells, panes):
            pass

    places = np.column_stack((block.x, block.y))
    two = _least(lambda: Delaunay(places), 1)
    one = _least(ours, 2)
    return Result(
        "TIN of 5 million points, of Delaunay alone", one / two, 1.5, note=f"{one:.1f} s against {two:.1f} s"
    )


def _large(folder: Path) -> Iterator[Result]:
    """Whole verbs on 50 million points: chunks that are read, and memory."""
    path = folder / "large.laz"
    subprocess.run([sys.executable, __file__, str(path)], check=True)
    area = "738000,5090300,741000,5090370"
    clip = [
        *ZEMBREL,
        "clip",
        str(path),
        "--within",
        area,
        "--out",
        str(folder / "cut.laz"),
        "--replace",
        "--json",
    ]
    subprocess.run([*clip, "--keep-bounds"], check=True, capture_output=True)
    started = time.perf_counter()
    told = json.loads(subprocess.run(clip, check=True, capture_output=True).stdout)
    seconds = time.perf_counter() - started
    needed = _met(path, tuple(map(float, area.split(","))))
    read = f"{told['parts_read']} of {told['parts']}"
    share = f"{told['written'] / 50 / MILLION:.2%} of the points, {read} chunks, {seconds:.1f} s"
    yield Result(
        "clip of 50 million points: chunks read of chunks met", told["parts_read"] / needed, 1.0, "", share
    )
    for verb, out in (
        (["convert"], "again.laz"),
        (["describe", "--stats"], ""),
        (["grid", "--cell", "2m"], "mean.tif"),
        (["grid", "--cell", "2m", "--surface", "tin"], "tin.tif"),
        (["thin", "--spacing", "2m"], "thin.laz"),
        (["convert"], "octree.copc.laz"),
    ):
        more = ["--out", str(folder / out), "--replace", "--quiet"] if out else []
        usage = used([*ZEMBREL, verb[0], str(path), *verb[1:], *more])
        (folder / out).unlink(missing_ok=True) if out else None
        name = f"memory of {' '.join(verb)} {out}, 50 million points"
        yield Result(name, usage.memory / 1e6, 1000, "MB", f"{usage.seconds:.0f} s")


def _met(path: Path, area: tuple[float, ...]) -> int:
    """Chunks whose points have bounds that meet an area."""
    source, found = open_las(path), 0
    west, south, east, north = area
    for part in source.parts:
        x0, y0, _, x1, y1, _ = source.read(part, frozenset()).bounds()
        found += x0 <= east and x1 >= west and y0 <= north and y1 >= south
    return found


if __name__ == "__main__":
    _write(Path(sys.argv[1]), Layout(6), 50, MILLION)
