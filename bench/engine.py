"""The raster engine against plain packages: reading, writing, mosaics, means, windows, memory."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, in_turn, least, told_in_turn, used
from scene import frame, write_scene
from zembrel.raster.model import Band

GREY = (Band("grey", "uint8", colour="grey"),)
SIDE = 10_000
SHEETS, SHEET = 8, 2_048  # sheets along a side, and cells along a side of one


def cases(folder: Path) -> Iterator[Result]:
    yield from _codecs(folder)
    yield from _mosaic(folder)
    yield from _mean(folder)
    yield from _window(folder)
    yield from _memory(folder)


def _plain(what: str, *words: object) -> list[str]:
    return [sys.executable, str(HERE / "plain.py"), what, *map(str, words)]


def _codecs(folder: Path) -> Iterator[Result]:
    cells = folder / "cells.npy"
    used(_plain("make", cells, SIDE))
    for codec, write_limit in (("deflate", 0.6), ("lzw", 1.1), ("zstd", 1.1), ("jpeg", 1.1)):
        ours, theirs = folder / f"ours-{codec}.tif", folder / f"theirs-{codec}.tif"
        mine, other = told_in_turn(
            _plain("write-ours", cells, ours, codec), _plain("write-plain", cells, theirs, codec), 3
        )
        note = f"{mine:.1f} s against {other:.1f} s, file {ours.stat().st_size / theirs.stat().st_size:.3f}"
        yield Result(f"write {codec}, 10,000 x 10,000 x 3", mine / other, write_limit, note=note)
        mine, other = told_in_turn(_plain("read-ours", theirs), _plain("read-plain", theirs), 3)
        note = f"{mine:.1f} s against {other:.1f} s"
        yield Result(f"read {codec}, 10,000 x 10,000 x 3", mine / other, 1.1, note=note)
        ours.unlink(), theirs.unlink()
    cells.unlink()


def _mosaic(folder: Path) -> Iterator[Result]:
    sheets = folder / "sheets"
    sheets.mkdir()
    for n in range(SHEETS * SHEETS):
        row, column = divmod(n, SHEETS)
        where = frame(SHEET, SHEET, left=725_000 + column * SHEET, top=5_106_000 - row * SHEET)
        write_scene(sheets / f"s{n:02}.tif", where)
    out = [
        "--out",
        str(folder / "all.tif"),
        "--replace",
        "--quiet",
        "--workers",
        "2",
        "--set",
        "overviews=no",
    ]
    mine, other = in_turn(
        [*ZEMBREL, "mosaic", str(sheets), *out], _plain("mosaic", sheets, folder / "plain.tif", SHEETS), 3
    )
    note = f"{mine.seconds:.1f} s against {other.seconds:.1f} s, memory {mine.memory / other.memory:.2f}"
    yield Result("mosaic of 64 sheets of 2,048 x 2,048 x 3", mine.seconds / other.seconds, 1.15, note=note)


def _mean(folder: Path) -> Iterator[Result]:
    source = folder / "mean.tif"
    write_scene(source, frame(2 * SIDE, 2 * SIDE), GREY)
    out = ["--out", str(folder / "small.tif"), "--replace", "--quiet", "--workers", "2"]
    ours = [*ZEMBREL, "resample", str(source), "--cell", "8m", "--method", "mean", *out]
    mine, other = in_turn(ours, _plain("read-plain", source), 4)
    note = f"{mine.seconds:.1f} s against {other.seconds:.1f} s"
    yield Result(
        "mean of 20,000 to 2,500, against reading alone", mine.seconds / other.seconds, 1.15, note=note
    )
    source.unlink()


def _window(folder: Path) -> Iterator[Result]:
    source = folder / "huge.tif"
    write_scene(source, frame(4 * SIDE, 4 * SIDE), GREY)
    ours = [*ZEMBREL, "clip", str(source), "--within", "735000,5096000,736000,5097000"]
    ours += ["--out", str(folder / "window.tif"), "--replace", "--quiet"]
    mine, numpy = in_turn(ours, [sys.executable, "-c", "import numpy"], 9)
    note = f"{mine.seconds:.2f} s against {numpy.seconds:.2f} s"
    yield Result(
        "window of 1,000 of 40,000, against import numpy", mine.seconds / numpy.seconds, 4, note=note
    )
    yield Result("memory of that", mine.memory / 1e6, 250, "MB")
    source.unlink()


def _memory(folder: Path) -> Iterator[Result]:
    taken = []
    for times in (1, 2, 4):
        source = folder / f"m{times}.tif"
        write_scene(source, frame(times * SIDE, times * SIDE), GREY)
        out = ["--out", str(folder / "moved.tif"), "--replace", "--quiet", "--workers", "2"]
        move = [*ZEMBREL, "reproject", str(source), "--crs", "EPSG:32627", "--method", "bilinear", *out]
        if not taken:
            used(move)  # kernels are compiled once
        taken.append(least([used(move)]).memory / 1e6)
        source.unlink()
    note = ", ".join(f"{memory:.0f} MB" for memory in taken) + " at 10,000, 20,000, 40,000"
    yield Result("largest memory over least", max(taken) / min(taken), 1.15, note=note)
