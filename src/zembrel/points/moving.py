"""Points carried to another CRS: the steps of the result, and the change of each block."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import metres_per_unit
from zembrel.geodesy.operation import CoordinateOperation
from zembrel.points.model import Array, Bounds3, PointBlock, Scaling

_ENOUGH = 1e-4  # metres: steps are not refined beyond
_EDGE = 21  # places along each edge that are carried to see how far the result reaches


@dataclass(frozen=True)
class Moved:
    """Points of the source of `operation` as points of its target; heights times `heights` besides."""

    operation: CoordinateOperation
    scaling: Scaling
    heights: float = 1.0

    def __call__(self, block: PointBlock) -> PointBlock:
        """Raises InputError for points that have no place in the target."""
        x, y, z = self.carried(block.x, block.y, block.z)
        if not np.isfinite(x).all() or not np.isfinite(y).all():
            n = int(np.flatnonzero(~(np.isfinite(x) & np.isfinite(y)))[0])
            raise InputError(
                f"point {block.x[n]:.10g},{block.y[n]:.10g} has no place in the new CRS",
                "it lies outside of what the CRS can map",
                "clip it away first, or choose another CRS",
            )
        records = block.records.copy()
        for axis, values in enumerate((x, y, z)):
            numbers = self.scaling.numbers(values, axis)
            if len(numbers) and max(-int(numbers.min()) - 1, int(numbers.max())) > 2**31 - 1:
                raise OverflowError("XYZ"[axis])
            records["XYZ"[axis]] = numbers
        return PointBlock(records, block.layout, self.scaling)

    def carried(self, x: Array, y: Array, z: Array) -> tuple[Array, Array, Array]:
        if self.operation.heights is not None:
            x, y, z = self.operation.with_height(x, y, z)
        else:
            x, y = self.operation(x, y)
        return x, y, z * self.heights


def carried_scaling(
    scaling: Scaling, bounds: Bounds3, operation: CoordinateOperation, heights: float
) -> Scaling:
    """Steps ten times as fine on the ground as those of `scaling`, down to 0.1 mm, if 32 bits reach, round
    an offset
    in the middle of what `bounds` become; as fine where they do not. Raises InputError."""
    t = np.linspace(0, 1, _EDGE)
    west, south, low, east, north, high = bounds
    x = np.concatenate([west + (east - west) * t] * 2 + [np.full(_EDGE, west), np.full(_EDGE, east)])
    y = np.concatenate([np.full(_EDGE, south), np.full(_EDGE, north)] + [south + (north - south) * t] * 2)
    z = np.linspace(low, high, len(x))
    px, py, pz = Moved(operation, scaling, heights).carried(x, y, z)
    good = np.isfinite(px) & np.isfinite(py)
    if not good.any():
        raise InputError(
            "the points have no place in the new CRS",
            "they lie outside of what it can map",
            "choose another CRS",
        )
    old, new = (
        metres_per_unit(operation.source, float(y.mean())),
        metres_per_unit(operation.target, float(py[good].mean())),
    )
    ratios = (old[0] / new[0], old[1] / new[1], heights)
    scales, offsets = [], []
    for axis, values in enumerate((px[good], py[good], pz[good])):
        middle = float(np.rint((values.min() + values.max()) / 2))
        reach = 1.1 * float(np.abs(values - middle).max()) + 1e-9
        wanted = scaling.scale[axis] * ratios[axis]
        digit = np.floor(np.log10(wanted * 1.0000001))
        enough = _ENOUGH / (new[axis] if axis < 2 else 1.0)
        fine = 10.0 ** (digit - 1 if 10.0 ** (digit - 1) > 0.999 * enough else digit)
        while reach / fine >= 2**31 - 1:
            fine *= 10
        scales.append(float(fine))
        offsets.append(middle)
    return Scaling((scales[0], scales[1], scales[2]), (offsets[0], offsets[1], offsets[2]))
