"""ground: find the points of the ground in clouds without classes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.engine.limits import Limits, each
from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.errors import InputError, UsageError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import GeographicCRS, metres_per_unit, same, vertical_of
from zembrel.grid.frame import Affine, Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.clouds import open_cloud, picking
from zembrel.inputs.intake import Given, take
from zembrel.inputs.options import Inputs, Output
from zembrel.points import kernels
from zembrel.points.gridding.tallied import placing_of
from zembrel.points.model import PointBlock, PointSource
from zembrel.points.morphology import Filtering, GroundSurface, ground_surface
from zembrel.points.parts import Parts
from zembrel.points.picking import Picking
from zembrel.results.clouds import Job, Sieve
from zembrel.results.cloudsurvey import bounds_of
from zembrel.results.cloudtarget import new_file
from zembrel.results.cloudways import told
from zembrel.results.eachcloud import one_to_one
from zembrel.results.receipt import Receipt
from zembrel.scratch import Scratch, ScratchArray
from zembrel.verbtable.record import POINTS

GROUND, UNCLASSIFIED, NOISE, WATER = 2, 1, (7, 18), 9
_BLOCK = 1024  # cells along a side of what is filtered at a time
_MOST = 4_000_000_000  # cells


def ground(inputs: Inputs, output: Output, filtering: Filtering) -> Receipt:
    """Each cloud with its ground points in class 2, and what was class 2 before and is none in class 1.

    Raises UsageError for parameters that make no sense, InputError for clouds in degrees.
    """
    if min(filtering.cell, filtering.window, filtering.slope, filtering.step, filtering.near) <= 0:
        raise UsageError(
            "a length of ground is 0 or less", "all have to be above 0", "leave it out for the usual one"
        )
    if filtering.window < 3 * filtering.cell:
        raise UsageError(
            f"--window {filtering.window:g} is less than three cells of {filtering.cell:g}",
            "nothing would be found above the ground",
            "give a larger window, or a smaller --cell",
        )
    given = take(inputs, output, (POINTS,))
    picked = picking(inputs)
    neighbours = {} if output.dry_run else _neighbours(given, output, filtering)

    def plan(source: PointSource, final: Path) -> Job:
        new, sieve = new_file(source, final, output), Sieve(None, picked)
        if output.dry_run:
            return Job(new, sieve)
        near = neighbours.pop(_identity(source), None) or _Neighbours([source], filtering, output)
        lattice = near.lattice(picked)
        said = [
            fact("ground_windows", cell=filtering.cell, window=filtering.window),
            fact("ground_slope", slope=filtering.slope),
        ]
        if len(near.sources) > 1:
            said.append(fact("clouds_as_one", clouds=len(near.sources)))
        said += lattice.doubts(filtering)
        change = Classified(lattice, filtering)
        return Job(new, sieve, change, chose=(*told(sieve), *said), counted=_counted)

    return one_to_one("ground", given, output, plan)


@dataclass(frozen=True, eq=False)
class Classified:
    """Points with the classes that the ground under them gives them."""

    lattice: _Lattice
    filtering: Filtering

    def __call__(self, block: PointBlock, piece: Piece) -> PointBlock:
        return block.having("class", self.lattice.classes(block, self.filtering))


@dataclass(frozen=True, eq=False)
class _Filtered:
    """The task of making the ground of a block of lowest points, and a margin around it."""

    lowest: ScratchArray
    filtering: Filtering

    def __call__(self, pane: Pane) -> GroundSurface:
        rows, columns = self.lowest.shape
        around = pane.grown(self.filtering.margin).meet(Pane(0, 0, rows, columns))
        assert around is not None
        wide = self.lowest.values[around.top : around.bottom, around.left : around.right]
        lowest = np.where(np.isfinite(wide), -wide, np.nan).astype(np.float32)
        made = ground_surface(lowest, self.filtering)
        own = pane.within(around)
        return GroundSurface(made.surface[own], made.kept[own], made.decks[own])


def _last(picked: Picking, piece: Piece) -> PointBlock:
    """Last returns of a piece that are no noise."""
    block = piece.source.read(piece.part)
    last = picked.mask(block) & (block.values("return") >= block.values("returns"))
    return block.take(last & ~np.isin(block.values("class"), NOISE))


def _counted(block: PointBlock) -> dict[str, int]:
    """Points by what became of them."""
    classes = block.values("class")
    kinds = {
        "ground": classes == GROUND,
        "water as it was": classes == WATER,
        "noise as it was": np.isin(classes, NOISE),
    }
    found = {word: int(np.count_nonzero(which)) for word, which in kinds.items()}
    return found | {"other": len(block) - sum(found.values())}


def _identity(source: PointSource) -> tuple[Any, ...]:
    """What tells a cloud of this run from the others."""
    cloud = source.cloud
    return cloud.bounds, cloud.count, cloud.scaling


class _Neighbours:
    """Clouds whose ground depends on each other, on one lattice that is made when it is first asked for."""

    def __init__(self, sources: list[PointSource], filtering: Filtering, output: Output) -> None:
        self.sources, self._filtering, self._output = sources, filtering, output
        self._made: _Lattice | None = None

    def lattice(self, picked: Picking) -> _Lattice:
        if self._made is None:
            made = _Lattice.of(self.sources, self._filtering, self._output)
            for source in self.sources:
                made.fill(source, picked, self._output)
            made.filter(self._filtering, self._output.limits)
            self._made = made
        return self._made


def _neighbours(given: Given, output: Output, filtering: Filtering) -> dict[tuple[Any, ...], _Neighbours]:
    """Of each cloud those that lie so near that its ground depends on them; one that cannot be opened has
    none. Who is done with a cloud takes it out: the lattice goes with the last of its clouds."""
    if len(given.origins) == 1:
        return {}
    groups: list[tuple[list[PointSource], list[float]]] = []
    for origin in given.origins:
        try:
            source = open_cloud(origin, given.options)
        except InputError:
            continue  # said when its turn comes
        bounds, crs = source.cloud.bounds, source.cloud.crs
        if bounds is None or isinstance(crs, GeographicCRS):
            continue
        reach = filtering.margin * filtering.cell / (metres_per_unit(crs, bounds[1])[0] if crs else 1.0)
        box = [bounds[0] - reach, bounds[1] - reach, bounds[3] + reach, bounds[4] + reach]
        members = [source]
        for near in [held for held in groups if same(held[0][0].cloud.crs, crs) and _meet(held[1], box)]:
            groups.remove(near)
            members = near[0] + members
            box = [*map(min, near[1][:2], box[:2]), *map(max, near[1][2:], box[2:])]
        groups.append((members, box))
    made = [_Neighbours(members, filtering, output) for members, _ in groups]
    return {_identity(source): near for near in made for source in near.sources}


def _meet(one: Sequence[float], other: Sequence[float]) -> bool:
    return one[0] <= other[2] and other[0] <= one[2] and one[1] <= other[3] and other[1] <= one[3]


@dataclass(frozen=True, eq=False)
class _Lattice:
    """The lowest points, and the ground, of square cells over clouds; both lie in files of a temporary
    folder."""

    left: float
    top: float
    size: float  # of a cell, in units of the CRS
    unit: float  # metres of a unit of heights
    lowest: ScratchArray
    surface: ScratchArray
    kept: Parts  # what is in doubt, see `GroundSurface`
    decks: Parts

    @classmethod
    def of(cls, sources: Sequence[PointSource], filtering: Filtering, output: Output) -> _Lattice:
        crs = sources[0].cloud.crs
        if isinstance(crs, GeographicCRS):
            raise InputError(
                "the points are in degrees",
                "slopes and windows are in metres",
                "bring them to metres with reproject",
            )
        all_bounds = np.array([bounds_of(source, output) for source in sources if source.cloud.count])
        low, high = (
            (all_bounds[:, :3].min(axis=0), all_bounds[:, 3:].max(axis=0))
            if len(all_bounds)
            else (np.zeros(3),) * 2
        )
        bounds = [*low.tolist(), *high.tolist()]
        metres = metres_per_unit(crs, bounds[1])[0] if crs is not None else 1.0
        vertical = vertical_of(crs)
        size = filtering.cell / metres
        columns, rows = int((bounds[3] - bounds[0]) / size) + 1, int((bounds[4] - bounds[1]) / size) + 1
        if columns * rows > _MOST:
            raise InputError(
                f"{columns:,} x {rows:,} cells are too many",
                "a point may lie far away",
                "clip the cloud first",
            )
        shape, scratch = (rows, columns), Scratch()
        lowest = scratch.array("lowest", np.float64, shape)
        lowest.values[:] = -np.inf
        unit = vertical.unit.factor if vertical is not None else 1.0
        surface = scratch.array("surface", np.float32, shape)
        return cls(bounds[0], bounds[4], size, unit, lowest, surface, Parts(), Parts())

    def fill(self, source: PointSource, picked: Picking, output: Output) -> None:
        """Enter the lowest last return of each cell."""

        rows, columns = self.lowest.shape
        frame = Frame(None, Affine(self.left, self.top, self.size, -self.size), columns, rows)
        for block in over_pieces(pieces_of([source]), partial(_last, picked), output.limits):
            placing, (step, base) = (
                placing_of(frame, block.scaling),
                (block.scaling.scale[2], block.scaling.offset[2]),
            )
            stored = (block.records[axis] for axis in "XYZ")
            kernels.binning.add_ends(
                *stored, placing, (step * self.unit, base * self.unit), self.lowest.values, -1.0
            )

    def filter(self, filtering: Filtering, limits: Limits) -> None:
        """Make the ground of the lowest points, block by block with a margin."""
        rows, columns = self.lowest.shape
        panes = list(Pane(0, 0, rows, columns).blocks(_BLOCK, _BLOCK))
        wide = 100 * (_BLOCK + 2 * filtering.margin) ** 2
        made = each(panes, _Filtered(self.lowest, filtering), limits, size=lambda p: p.size, item_bytes=wide)
        for pane, found in zip(panes, made, strict=True):
            self.surface.values[pane.top : pane.bottom, pane.left : pane.right] = found.surface
            self.kept.add(found.kept, pane)
            self.decks.add(found.decks, pane)

    def doubts(self, filtering: Filtering) -> list[Fact]:
        """Facts about what was in doubt: how much, and where the largest part lies."""
        said = []
        if self.kept.cells:
            said.append(fact("ground_doubtful", **self._told(self.kept, filtering)))
        if self.decks.cells:
            said.append(fact("ground_decks", **self._told(self.decks, filtering)))
        return said

    def _told(self, parts: Parts, filtering: Filtering) -> dict[str, float]:
        """Square metres of parts, and the middle of the largest in units of the CRS."""
        x, y = self.left + (parts.column + 0.5) * self.size, self.top - (parts.row + 0.5) * self.size
        return {"area": parts.cells * filtering.cell**2, "x": x, "y": y}

    def classes(self, block: PointBlock, filtering: Filtering) -> npt.NDArray[np.uint8]:
        """Classes of points: ground within reach of the surface; noise stays noise, and water water."""
        before = block.values("class")
        near = self._lies_on(block.x, block.y, block.z * self.unit, filtering)
        near &= block.values("return") >= block.values("returns")
        told = np.isin(before, (*NOISE, WATER))
        after = np.where(near & ~told, GROUND, np.where(before == GROUND, UNCLASSIFIED, before))
        return np.asarray(np.where(after == 0, UNCLASSIFIED, after), np.uint8)

    def _lies_on(self, x: Any, y: Any, z: Any, filtering: Filtering) -> npt.NDArray[np.bool_]:
        """Whether places are near the ground between the middles of four cells, or, where that is steeper
        than ground may be, near the ground of one of the four: at the head or the foot of a wall."""
        surface = self.surface.values
        rows, columns = surface.shape
        u = np.clip((x - self.left) / self.size - 0.5, 0, columns - 1)
        v = np.clip((self.top - y) / self.size - 0.5, 0, rows - 1)
        i, j = np.minimum(u.astype(int), max(columns - 2, 0)), np.minimum(v.astype(int), max(rows - 2, 0))
        a, b = u - i, v - j
        right, below = np.minimum(i + 1, columns - 1), np.minimum(j + 1, rows - 1)
        one, two = surface[j, i].astype(float), surface[j, right].astype(float)
        three, four = surface[below, i].astype(float), surface[below, right].astype(float)
        height = (one * (1 - a) + two * a) * (1 - b) + (three * (1 - a) + four * a) * b
        across, down = (two - one + four - three) / 2, (three - one + four - two) / 2
        near = np.abs(z - height) <= filtering.near + np.hypot(across, down) / 2
        corners = np.stack([one, two, three, four])
        steep = np.ptp(corners, axis=0) > filtering.step + filtering.slope * filtering.cell * math.sqrt(2)
        return np.asarray(near | (steep & (np.abs(corners - z).min(axis=0) <= filtering.near)))
