"""Grid formats against the speed asked for: text, cells as they are, and HDF5."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import h5py
import numpy as np

from measure import Result
from plain import Nothing
from scene import frame
from zembrel.engine.limits import Limits
from zembrel.engine.run import observe, run
from zembrel.formats import choose_format, header_beside, load, open_raster
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.passes.survey import blocks_of
from zembrel.raster.model import Band, Block

SIDE = 6_000
READ, WRITE = 40, 60  # MB a second, at least
RAW, PACKED = 1.3, 1.25


class Heights:
    """Heights in centimetres."""

    bands = (Band("elevation", "float32", unit="m"),)

    def __init__(self, where: Frame) -> None:
        self.frame = where
        self.held = np.random.default_rng(1).normal(300, 100, (where.rows, where.columns))
        self.held = self.held.round(2).astype(np.float32)

    def cells(self, pane: Pane) -> Block:
        return Block(self.held[None, *pane.within(self.frame.pane)].copy())


def cases(folder: Path) -> Iterator[Result]:
    yield from _text(folder)
    yield from _raw(folder)
    yield from _packed(folder)


def _text(folder: Path) -> Iterator[Result]:
    path, view, one = folder / "heights.asc", Heights(frame(SIDE, SIDE)), Limits(workers=1)
    writing, reading = [], []
    for _ in range(4):
        writing.append(_seconds(lambda: _write(view, path, one)))
        reading.append(_seconds(lambda: _read(path, one)))
    size = path.stat().st_size / 1e6
    for what, seconds, due in (("read", min(reading), READ), ("written", min(writing), WRITE)):
        speed = size / seconds
        note = f"{speed:.0f} MB/s, {size:.0f} MB"
        yield Result(f"ASCII grid {what}, time against {due} MB/s", due / speed, 1.0, note=note)
    path.unlink()


def _raw(folder: Path) -> Iterator[Result]:
    """Formats that hold cells as they are, against copying them from and to a memory map."""
    view, plain, limits = Heights(frame(2 * SIDE, 2 * SIDE)), folder / "plain.raw", Limits()
    size = view.held.nbytes / 1e6
    for ending in ("bsq", "bil", "flt", "npy", "r32"):
        path = folder / f"heights.{ending}"
        _write(view, path, limits)
        reading, writing, copying_in, copying_out = [], [], [], []
        for _ in range(5):
            writing.append(_seconds(lambda path=path: _write(view, path, limits)))
            copying_out.append(_seconds(lambda: _copy_out(view.held, plain)))
            reading.append(_seconds(lambda path=path: _read(path, limits)))
            copying_in.append(_seconds(lambda: np.array(np.memmap(plain, np.float32))))
        for what, ours, theirs in (("read", reading, copying_in), ("written", writing, copying_out)):
            note = f"{size / min(ours):,.0f} MB/s against {size / min(theirs):,.0f}"
            yield Result(f".{ending} {what}, against a copy", min(ours) / min(theirs), RAW, note=note)
        path.unlink()


def _packed(folder: Path) -> Iterator[Result]:
    """NetCDF-4 against the HDF5 package with the same chunks and filters."""
    view, limits = Heights(frame(SIDE, SIDE)), Limits()
    path, plain = folder / "heights.nc", folder / "plain.h5"
    writing, reading, theirs_out, theirs_in = [], [], [], []
    for _ in range(3):
        writing.append(_seconds(lambda: _write(view, path, limits)))
        theirs_out.append(_seconds(lambda: _packed_plain(view.held, plain)))
        reading.append(_seconds(lambda: _read(path, limits)))
        theirs_in.append(_seconds(lambda: _read_plain(plain)))
    for what, ours, theirs in (("read", reading, theirs_in), ("written", writing, theirs_out)):
        note = f"{min(ours):.1f} s against {min(theirs):.1f} s"
        yield Result(f"NetCDF-4 {what}, against HDF5 itself", min(ours) / min(theirs), PACKED, note=note)


def _seconds(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _write(view: Heights, path: Path, limits: Limits) -> None:
    path.unlink(missing_ok=True)  # HDF5 keeps what it has read open
    name = choose_format(path, None)
    run(view, load(name).make_sink(path, view.frame, view.bands, {}), limits)
    for beside, text in header_beside(name, path, view, {}).items():
        beside.write_text(text)


def _read(path: Path, limits: Limits) -> None:
    source = open_raster(path)
    observe(source, blocks_of(source), [Nothing()], limits)


def _copy_out(cells: np.ndarray, path: Path) -> None:
    held = np.memmap(path, cells.dtype, "w+", shape=cells.shape)
    held[:] = cells
    held.flush()


def _read_plain(path: Path) -> None:
    with h5py.File(path) as file:
        file["heights"][:]


def _packed_plain(cells: np.ndarray, path: Path) -> None:
    with h5py.File(path, "w") as file:
        file.create_dataset("heights", data=cells, chunks=(512, 512), compression=4, shuffle=True)
