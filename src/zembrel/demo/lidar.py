"""Lidar swaths over the harbour: flight lines that overlap, with several returns in the woods, classes and
noise.

Places are metres east and north of the island's middle, as in `island`.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.demo import island
from zembrel.demo.scenes import HOME
from zembrel.geodesy.registry import by_code
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import PointBlock, Scaling
from zembrel.points.records import Layout, put_values

Array = npt.NDArray[Any]
AREA = (1080.0, -1900.0, 1880.0, -1300.0)  # west, south, east, north
SEED = 4624
NOISE = 0.04  # metres, standard deviation of heights
_SPACING, _SWATH, _SIDELAP = 1.0, 260.0, 70.0  # metres
_START, _PULSE, _TURN = 312_000_000.0, 4e-6, 240.0  # seconds
_GROUND, _LOW, _HIGH, _BUILDING, _LOW_NOISE, _WATER, _HIGH_NOISE = 2, 3, 5, 6, 7, 9, 18
_TREES, _HOUSES = 7.0, 55.0  # metres between trees, and between houses
_SCALING = Scaling((0.01, 0.01, 0.01), (island.MIDDLE[0], island.MIDDLE[1], 0.0))


class Line(NamedTuple):
    """A flight line: its number, the middle of its swath in the north, and whether it is flown westwards."""

    number: int
    north: float
    westwards: bool


def lines() -> list[Line]:
    """Flight lines over the area, from the south."""
    _, south, _, north = AREA
    middles = np.arange(south + _SWATH / 2 - _SIDELAP / 2, north + _SIDELAP, _SWATH - _SIDELAP)
    return [Line(101 + n, float(middle), n % 2 == 1) for n, middle in enumerate(middles)]


def clouds() -> Iterator[tuple[Path, NewFile, PointBlock]]:
    """Every point file of the demo: its name, what it is like, and its points."""
    layout, crs = Layout(6), by_code(HOME)
    for n, line in enumerate(lines(), 1):
        block = _points(line, AREA, layout)
        yield Path("lidar") / f"l{n}.laz", NewFile(layout, _SCALING, crs, True, like=None), block
    old = Layout(1)
    west, south, _, _ = AREA
    raw = _points(Line(7, south + 180.0, False), (west + 200, south + 60, west + 420, south + 280), layout)
    raw = raw.having("class", 0).regraded(old)[0]
    yield Path("lidar") / "raw.las", NewFile(old, _SCALING, None, False), raw
    sea = _points(Line(9, 3900.0, False), (-4900.0, 3800.0, -4500.0, 4000.0), layout)
    yield Path("lidar") / "sea.laz", NewFile(layout, _SCALING, crs, True), sea


def canopy(x: Array, y: Array) -> Array:
    """Height of trees above the ground, (n,): crowns round jittered stems, where there is wood."""
    column, row = np.floor(x / _TREES), np.floor(y / _TREES)
    best = np.zeros(x.size)
    for i in (-1, 0, 1):
        for j in (-1, 0, 1):
            u, v, w = (_chance(column + i, row + j, k) for k in range(3))
            stem_x, stem_y = (column + i + 0.2 + 0.6 * u) * _TREES, (row + j + 0.2 + 0.6 * v) * _TREES
            radius, height = 2.2 + 2.2 * w, 7.0 + 10.0 * w
            away = np.hypot(x - stem_x, y - stem_y) / radius
            best = np.maximum(best, np.where(away < 1, height * (1 - 0.6 * away**2), 0))
    return np.where(island.classes(x, y) == island.WOOD, best, 0.0)


def houses(x: Array, y: Array) -> Array:
    """Height of the eaves of houses above the ground, (n,): some, on grass below 60 m."""
    column, row = np.floor(x / _HOUSES), np.floor(y / _HOUSES)
    middle_x, middle_y = (column + 0.5) * _HOUSES, (row + 0.5) * _HOUSES
    turn = _chance(column, row, 5) * np.pi
    along = (x - middle_x) * np.cos(turn) + (y - middle_y) * np.sin(turn)
    across = (y - middle_y) * np.cos(turn) - (x - middle_x) * np.sin(turn)
    inside = (np.abs(along) < 7.0) & (np.abs(across) < 4.5) & (_chance(column, row, 6) < 0.3)
    ground = island.heights(middle_x, middle_y)
    dry = (island.classes(middle_x, middle_y) == island.GRASS) & (ground > 3) & (ground < 60)
    return np.where(inside & dry, ground + 6.0 - island.heights(x, y), 0.0)


def _chance(i: Array, j: Array, k: int) -> Array:
    """A number of 0 to 1 that looks random but belongs to the place."""
    mixed = np.sin(i * 127.1 + j * 311.7 + k * 74.7 + SEED) * 43758.5453
    return np.asarray(mixed - np.floor(mixed))


def _points(line: Line, area: tuple[float, float, float, float], layout: Layout) -> PointBlock:
    random = np.random.default_rng(SEED + line.number)
    x, y, t, angle = _pulses(line, area, random)
    ground = np.maximum(island.heights(x, y), 0.0)
    water = island.inland(x, y) <= 0
    kept = ~water | (random.random(x.size) < 0.3)
    x, y, t, angle, ground, water = (v[kept] for v in (x, y, t, angle, ground, water))
    trees, roofs = canopy(x, y), houses(x, y)
    returns = _returns(random, ground, trees, roofs, water)
    order = np.argsort(np.concatenate([pulse * 4 + number for pulse, number, *_ in returns]), kind="stable")
    pulse, number, of, z, kind, strength = (np.concatenate(v)[order] for v in zip(*returns, strict=True))
    pulse = pulse.astype(int)
    slant = np.tan(np.radians(angle[pulse])) * (z - ground[pulse])
    made = np.zeros(len(pulse), layout.dtype)
    made["X"] = np.rint(x[pulse] * 100)
    made["Y"] = np.rint((y[pulse] + 0.3 * slant) * 100)
    made["Z"] = np.rint((z + random.normal(0, NOISE, z.size)) * 100)
    made["intensity"] = np.clip(strength + random.normal(0, 9, z.size), 1, 4000)
    for name, values in (("return", number), ("returns", of), ("class", kind), ("scan_angle", angle[pulse])):
        put_values(made, layout, name, values)
    put_values(made, layout, "direction", (np.diff(angle[pulse], prepend=0) > 0).astype(int))
    made["source"], made["gps_time"] = line.number, t[pulse]
    return _with_noise(PointBlock(made, layout, _SCALING), random)


def _pulses(
    line: Line, area: tuple[float, float, float, float], random: np.random.Generator
) -> tuple[Array, Array, Array, Array]:
    """Places of pulses on the ground in order of time, their times, and the angles of the scan."""
    west, south, east, north = area
    low, high = max(south, line.north - _SWATH / 2), min(north, line.north + _SWATH / 2)
    across, along = np.arange(low, high, _SPACING), np.arange(west, east, _SPACING)
    if line.westwards:
        along = along[::-1]
    y = np.tile(across, (len(along), 1))
    y[1::2] = y[1::2, ::-1]
    x = np.repeat(along, len(across)).reshape(y.shape) + (y - line.north) * 0.004
    t = _START + _TURN * line.number + np.arange(y.size) * _PULSE
    x, y = x.ravel(), y.ravel()
    x, y = x + random.uniform(-0.35, 0.35, x.size), y + random.uniform(-0.35, 0.35, y.size)
    inside = (x >= west) & (x < east) & (y >= south) & (y < north)
    return x[inside], y[inside], t[inside], np.degrees(np.arctan((y[inside] - line.north) / 500.0))


Return = tuple[Array, Array, Array, Array, Array, Array]


def _returns(
    random: np.random.Generator, ground: Array, trees: Array, roofs: Array, water: npt.NDArray[np.bool_]
) -> list[Return]:
    """Returns of all pulses: pulse, number, of how many, height, class and intensity of each."""
    wood = np.flatnonzero((trees > 1.0) & (roofs == 0))
    hit = wood[random.random(wood.size) < 0.8]
    through, second = random.random(hit.size) < 0.6, random.random(hit.size) < 0.4
    count = 1 + second.astype(int) + through
    top = trees[hit] * random.uniform(0.85, 1.0, hit.size)
    middle = trees[hit] * random.uniform(0.25, 0.7, hit.size)
    last = ground[hit] + np.where(random.random(hit.size) < 0.07, random.uniform(0.3, 1.2, hit.size), 0)
    high, kinds = np.full(hit.size, _HIGH), np.where(last > ground[hit], _LOW, _GROUND)
    open_ = np.setdiff1d(np.arange(ground.size), hit)
    kind = np.where(water[open_], _WATER, np.where(roofs[open_] > 0, _BUILDING, _GROUND))
    bright = np.where(
        water[open_], 60, np.where(roofs[open_] > 0, 900, 420 + 160 * _chance(open_ // 900, open_ * 0, 9))
    )
    ones = np.ones(open_.size)
    return [
        (open_, ones, ones, (ground + roofs)[open_], kind, bright),
        (
            hit,
            np.ones(hit.size),
            count,
            ground[hit] + top,
            high,
            np.full(hit.size, 260.0) / count,
        ),
        _some(second, (hit, np.full(hit.size, 2), count, ground[hit] + middle, high, 150.0 / count)),
        _some(through, (hit, count, count, last, kinds, 210.0 / count)),
    ]


def _some(chosen: npt.NDArray[np.bool_], values: Return) -> Return:
    return tuple(v[chosen] for v in values)  # type: ignore[return-value]


def _with_noise(block: PointBlock, random: np.random.Generator) -> PointBlock:
    """A few points in the air and a few below the ground, marked as noise, half of them as nothing."""
    records = block.records.copy()
    odd = random.choice(len(records), max(len(records) // 4000, 2), replace=False)
    up = random.random(odd.size) < 0.5
    records["Z"][odd] += np.where(
        up, random.uniform(4000, 9000, odd.size), random.uniform(-2500, -900, odd.size)
    ).astype(int)
    kinds = block.values("class").copy()
    kinds[odd] = np.where(random.random(odd.size) < 0.7, np.where(up, _HIGH_NOISE, _LOW_NOISE), 1)
    put_values(records, block.layout, "class", kinds)
    return PointBlock(records, block.layout, block.scaling)
