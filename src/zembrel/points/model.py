"""The model of point clouds: blocks of records with their scaling, what is known of a cloud, and its seam."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from zembrel.geodesy.crs import CRS
from zembrel.points.records import Layout, Records, Values, put_values, regraded, values_of

Array = npt.NDArray[np.float64]
Bounds3 = tuple[float, float, float, float, float, float]  # min x, y, z, max x, y, z
_MOST = 2**31 - 1


class Scaling(NamedTuple):
    """How stored whole numbers become coordinates: number x scale + offset, for x, y and z."""

    scale: tuple[float, float, float] = (0.01, 0.01, 0.01)
    offset: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def coordinates(self, stored: Values, axis: int) -> Array:
        return np.asarray(stored * self.scale[axis] + self.offset[axis], np.float64)

    def numbers(self, coordinates: Array, axis: int) -> npt.NDArray[np.int64]:
        """The nearest stored numbers, not yet checked to fit 32 bits."""
        return np.rint((coordinates - self.offset[axis]) / self.scale[axis]).astype(np.int64)

    def holds(self, bounds: Bounds3) -> bool:
        """Whether all coordinates within bounds fit 32 bits."""
        return all(
            abs((bounds[axis + 3 * end] - self.offset[axis]) / self.scale[axis]) < _MOST
            for axis in range(3)
            for end in range(2)
        )


@dataclass(frozen=True, eq=False)
class PointBlock:
    """Points in file order: records (n,) of `layout`, with the scaling of their coordinates."""

    records: Records
    layout: Layout
    scaling: Scaling

    def __len__(self) -> int:
        return len(self.records)

    @property
    def x(self) -> Array:
        return self.scaling.coordinates(self.records["X"], 0)

    @property
    def y(self) -> Array:
        return self.scaling.coordinates(self.records["Y"], 1)

    @property
    def z(self) -> Array:
        return self.scaling.coordinates(self.records["Z"], 2)

    def values(self, name: str) -> Values:
        """Values (n,) of that name: `z`, `class`, `return`, `intensity` ... Raises InputError."""
        if name in ("x", "y", "z"):
            return np.asarray(getattr(self, name))
        return values_of(self.records, self.layout, name)

    def take(self, index: Any) -> PointBlock:
        """The points at `index`: numbers, a mask or a slice."""
        return replace(self, records=self.records[index])

    def having(self, name: str, values: Values | int) -> PointBlock:
        """The same points with other values of that name. Raises InputError."""
        records = self.records.copy()
        put_values(records, self.layout, name, values)
        return replace(self, records=records)

    def bounds(self) -> Bounds3:
        """Smallest and largest coordinates; all NaN of no points."""
        if not len(self):
            return (np.nan,) * 6
        stored = [self.records[axis] for axis in "XYZ"]
        lows = [float(self.scaling.coordinates(v.min(), axis)) for axis, v in enumerate(stored)]
        highs = [float(self.scaling.coordinates(v.max(), axis)) for axis, v in enumerate(stored)]
        return (*lows, *highs)  # type: ignore[return-value]

    def rescaled(self, scaling: Scaling) -> PointBlock:
        """The same points on other steps. Raises OverflowError for coordinates that do not fit 32 bits."""
        if scaling == self.scaling:
            return self
        records = self.records.copy()
        for axis, name in enumerate("XYZ"):
            numbers = scaling.numbers(self.scaling.coordinates(self.records[name], axis), axis)
            if len(numbers) and max(-int(numbers.min()) - 1, int(numbers.max())) > _MOST:
                raise OverflowError(name)
            records[name] = numbers
        return replace(self, records=records, scaling=scaling)

    def regraded(self, layout: Layout) -> tuple[PointBlock, dict[str, int]]:
        """The same points in another layout, and of how many points what is lost."""
        if layout == self.layout:
            return self, {}
        records, lost = regraded(self.records, self.layout, layout)
        return replace(self, records=records, layout=layout), lost


@dataclass(frozen=True, eq=False)
class Cloud:
    """What is known of a cloud before a point is read.

    bounds: as its file says, None if it does not; header: facts of the file for who wants to see or to carry
    them.
    """

    layout: Layout
    scaling: Scaling
    crs: CRS | None
    count: int
    bounds: Bounds3 | None = None
    header: Mapping[str, Any] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()


class Part(NamedTuple):
    """Points that are read in one go: how many, and what is known of where they lie and how fine they are."""

    number: int
    points: int
    bounds: Bounds3 | None = None
    level: int = 0  # of a pyramid: 0 is the coarsest; all levels together are the cloud


Fields = frozenset[str]


class PointSource(Protocol):
    """A cloud that can be read part by part."""

    @property
    def cloud(self) -> Cloud: ...

    @property
    def parts(self) -> tuple[Part, ...]: ...

    def read(self, part: Part, fields: Fields | None = None) -> PointBlock:
        """The points of a part; fields: values that are needed besides x, y and returns, None for all."""
        ...
