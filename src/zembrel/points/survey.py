"""What a look at all points tells: counts, ends, order, density and voids."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.crs import CRS, metres_per_unit
from zembrel.points.duplicates import Duplicates, marks_of
from zembrel.points.model import Bounds3, PointBlock
from zembrel.scipypart import scipy

_PER_CELL, _SIDE = 8, 2048  # points in a cell of the map of density, and cells along its longer side, at most
FLAGS = ("synthetic", "key_point", "withheld", "overlap")
_NO_STATISTICS = ("x", "y", "class", "return", "returns", "channel", "direction", "edge", *FLAGS)


class SurveyLattice(NamedTuple):
    """The cells in which points are counted."""

    west: float
    south: float
    size: float
    columns: int
    rows: int

    @classmethod
    def over(cls, bounds: Bounds3, points: int) -> SurveyLattice:
        width, height = max(bounds[3] - bounds[0], 1e-9), max(bounds[4] - bounds[1], 1e-9)
        size = max(np.sqrt(width * height * _PER_CELL / max(points, 1)), max(width, height) / _SIDE)
        return cls(bounds[0], bounds[1], float(size), int(width / size) + 1, int(height / size) + 1)


@dataclass
class PointsSeen:
    """What was seen of some points."""

    points: int = 0
    classes: Counter[int] = field(default_factory=Counter)
    returns: Counter[tuple[int, int]] = field(default_factory=Counter)  # number and of how many
    sources: Counter[int] = field(default_factory=Counter)
    flags: Counter[str] = field(default_factory=Counter)
    bounds: Bounds3 | None = None
    outside: int = 0  # of the bounds that the file says
    backwards: int = 0  # times that lie before the one in front of them
    times: tuple[float, float] | None = None  # first and last in file order
    time_ends: tuple[float, float] | None = None
    ends: dict[str, tuple[float, float, float]] = field(default_factory=dict)  # smallest, largest, sum
    cells: npt.NDArray[np.int64] | None = None
    marks: npt.NDArray[np.uint64] | None = None


def look(block: PointBlock, said: Bounds3 | None, lattice: SurveyLattice | None, *, deep: bool) -> PointsSeen:
    """What a block tells. said: bounds by its file; deep: also statistics of all values, and duplicates."""
    seen = PointsSeen(len(block))
    if not len(block):
        return seen
    seen.classes = _counted(block.values("class"))
    pairs = block.values("return").astype(np.int64) * 16 + block.values("returns")
    seen.returns = Counter({(k >> 4, k & 15): n for k, n in _counted(pairs).items()})
    seen.sources = _counted(block.values("source"))
    names = block.layout.names
    seen.flags = Counter({f: int(block.values(f).sum()) for f in FLAGS if f in names})
    seen.bounds = block.bounds()
    x, y = block.x, block.y
    if said is not None:
        slack = [abs(step) * 0.5001 for step in block.scaling.scale]
        inside = np.ones(len(block), bool)
        for axis, values in enumerate((x, y, block.z)):
            inside &= (values >= said[axis] - slack[axis]) & (values <= said[axis + 3] + slack[axis])
        seen.outside = int(np.count_nonzero(~inside))
    if "gps_time" in names:
        times = block.values("gps_time")
        seen.times = float(times[0]), float(times[-1])
        seen.time_ends = float(times.min()), float(times.max())
        seen.backwards = int(np.count_nonzero(np.diff(times) < 0))
    if lattice is not None:
        column = np.clip(((x - lattice.west) / lattice.size).astype(np.int64), 0, lattice.columns - 1)
        row = np.clip(((y - lattice.south) / lattice.size).astype(np.int64), 0, lattice.rows - 1)
        seen.cells = np.bincount(row * lattice.columns + column, minlength=lattice.columns * lattice.rows)
    if deep:
        seen.marks = marks_of(block.records)
        for name in names:
            values = block.values(name)
            if name not in _NO_STATISTICS and values.ndim == 1 and values.dtype.kind in "iuf":
                seen.ends[name] = (
                    float(values.min()),
                    float(values.max()),
                    float(values.sum(dtype=np.float64)),
                )
    return seen


def _counted(values: npt.NDArray[np.integer]) -> Counter[int]:
    counts = np.bincount(values.astype(np.int64))
    return Counter({int(k): int(counts[k]) for k in np.flatnonzero(counts)})


class Survey:
    """All that was seen, put together in file order."""

    def __init__(self, duplicates: Duplicates) -> None:
        self.seen = PointsSeen()
        self._duplicates = duplicates

    def note(self, new: PointsSeen) -> None:
        whole = self.seen
        if not new.points:
            return
        if whole.times is not None and new.times is not None:
            whole.backwards += new.times[0] < whole.times[1]
        whole.points += new.points
        for name in ("classes", "returns", "sources", "flags"):
            getattr(whole, name).update(getattr(new, name))
        whole.outside += new.outside
        whole.backwards += new.backwards
        whole.bounds = _joined(whole.bounds, new.bounds)
        if new.times is not None and new.time_ends is not None:
            first = whole.times[0] if whole.times else new.times[0]
            low, high = whole.time_ends or new.time_ends
            whole.times = first, new.times[1]
            whole.time_ends = min(low, new.time_ends[0]), max(high, new.time_ends[1])
        for name, (low, high, total) in new.ends.items():
            had = whole.ends.get(name, (low, high, 0.0))
            whole.ends[name] = min(had[0], low), max(had[1], high), had[2] + total
        if new.cells is not None:
            whole.cells = new.cells if whole.cells is None else whole.cells + new.cells
        if new.marks is not None:
            self._duplicates.add(new.marks)

    def duplicates(self) -> int:
        """Points that lie exactly where another one lies."""
        return self._duplicates.count()


def _joined(one: Bounds3 | None, other: Bounds3 | None) -> Bounds3 | None:
    if one is None or other is None:
        return one or other
    low = [min(a, b) for a, b in zip(one[:3], other[:3], strict=True)]
    return (*low, *(max(a, b) for a, b in zip(one[3:], other[3:], strict=True)))  # type: ignore[return-value]


class PointCover(NamedTuple):
    """How densely points lie: square metres with points, and points a square metre there."""

    area: float
    density: float


class Voids(NamedTuple):
    """Ground without points among points: how many, their square metres, and the largest and where it is."""

    number: int
    area: float
    largest: float
    place: tuple[float, float] | None


def _near(cells: npt.NDArray[np.int64], lattice: SurveyLattice) -> npt.NDArray[np.bool_]:
    """Cells with points or between such: a single empty cell is chance. A closing by 3 x 3 cells."""
    filled = np.pad(cells.reshape(lattice.rows, lattice.columns) > 0, 2)
    grown = np.zeros_like(filled)
    for down in (-1, 0, 1):
        for across in (-1, 0, 1):
            grown |= np.roll(filled, (down, across), (0, 1))
    near = np.ones_like(filled)
    for down in (-1, 0, 1):
        for across in (-1, 0, 1):
            near &= np.roll(grown, (down, across), (0, 1))
    return near[2:-2, 2:-2]


def _cell_area(lattice: SurveyLattice, crs: CRS | None) -> float:
    across, along = (
        metres_per_unit(crs, lattice.south + lattice.size * lattice.rows / 2) if crs else (1.0, 1.0)
    )
    return lattice.size * lattice.size * across * along


def cover_of(cells: npt.NDArray[np.int64], lattice: SurveyLattice, crs: CRS | None) -> PointCover:
    """Cover by the points of each cell, (rows x columns,), rows from the south; square units without a
    CRS."""
    area = float(_near(cells, lattice).sum()) * _cell_area(lattice, crs)
    return PointCover(area, float(cells.sum()) / area if area else 0.0)


def voids_of(cells: npt.NDArray[np.int64], lattice: SurveyLattice, crs: CRS | None) -> Voids:
    """Holes in the ground that points cover."""
    ndimage = scipy("ndimage")
    near, cell = _near(cells, lattice), _cell_area(lattice, crs)
    labels, number = ndimage.label(ndimage.binary_fill_holes(near) & ~near)
    if not number:
        return Voids(0, 0.0, 0.0, None)
    sizes = np.bincount(labels.ravel(), minlength=number + 1)[1:]
    row, column = (int(v[0]) for v in np.nonzero(labels == int(sizes.argmax()) + 1))
    place = lattice.west + (column + 0.5) * lattice.size, lattice.south + (row + 0.5) * lattice.size
    return Voids(number, float(sizes.sum()) * cell, float(sizes.max()) * cell, place)
