"""Named columns to records and back, for files that are tables of points."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.points.las.extra import extra_field
from zembrel.points.model import PointBlock, Scaling
from zembrel.points.records import Layout, Values, put_values

SKIPPED = "-"  # a column that is not wanted
_MEANT = {
    "easting": "x", "east": "x", "lon": "x", "longitude": "x", "northing": "y", "north": "y", "lat": "y",
    "latitude": "y", "height": "z", "elevation": "z", "elev": "z", "altitude": "z", "i": "intensity",
    "classification": "class", "return_number": "return", "number_of_returns": "returns", "r": "red",
    "g": "green", "b": "blue", "infrared": "nir", "time": "gps_time", "t": "gps_time",
    "point_source_id": "source", "scan_direction": "direction",
}  # fmt: skip
_COLOURS = ("red", "green", "blue")
_FARTHEST = 1e12
_DIGITS = 9  # after the point, at most


def meant(names: Sequence[str]) -> tuple[str, ...]:
    """Names of columns as values are called here. Raises UsageError for one given twice."""
    words = [name.strip().strip('"').lower() for name in names]
    found = [word if _MEANT.get(word) in words else _MEANT.get(word, word) or SKIPPED for word in words]
    for name in found:
        if name != SKIPPED and found.count(name) > 1:
            raise UsageError(
                f"column {name} is given twice", "only one value can count", "write - for one of them"
            )
    return tuple(found)


def check_place(names: Sequence[str], path: object) -> None:
    """Raise InputError unless there are x, y and z."""
    missing = [name for name in "xyz" if name not in names]
    if missing:
        raise InputError(
            f"{path} has no column {missing[0]}",
            f"its columns are {', '.join(names)}",
            "say what they are with --columns x,y,z,intensity (- for one to leave out)",
        )


def layout_for(kinds: Mapping[str, np.dtype[np.generic]]) -> Layout:
    """The layout that holds values of these names and types; what no point format has becomes extra bytes."""
    number = 8 if "nir" in kinds else 7 if set(_COLOURS) & set(kinds) else 6
    known = Layout(number).names
    extra = tuple(extra_field(n, k) for n, k in kinds.items() if n not in known and n != SKIPPED)
    return Layout(number, extra)


def block_of(columns: Mapping[str, Values], layout: Layout, scaling: Scaling, path: object) -> PointBlock:
    """Points of columns. Raises InputError for values that do not fit and coordinates that are no numbers."""
    count = len(columns["x"])
    records = np.zeros(count, layout.dtype)
    for axis, name in enumerate("xyz"):
        values = np.asarray(columns[name], np.float64)
        if not np.isfinite(values).all():
            row = int(np.flatnonzero(~np.isfinite(values))[0])
            raise InputError(
                f"{path} has a point whose {name} is no number",
                f"it is number {row + 1:,} of its block",
                "mend it",
            )
        steps = (values - scaling.offset[axis]) / scaling.scale[axis]
        if count and np.abs(steps).max() >= 2**31 - 1:
            raise InputError(
                f"{path} has {name} up to {np.abs(values).max():.10g}",
                f"steps of {scaling.scale[axis]:g} do not reach so far",
                "check the point, and the metadata of the file",
            )
        records[name.upper()] = np.rint(steps)
    for name, values in columns.items():
        if name not in ("x", "y", "z", SKIPPED):
            _put(records, layout, name, values, path)
    if "return" not in columns:
        put_values(records, layout, "return", 1)
    if "returns" not in columns:
        put_values(records, layout, "returns", 1)
    return PointBlock(records, layout, scaling)


def _put(records: np.ndarray, layout: Layout, name: str, values: Values, path: object) -> None:
    stored = layout.stored(name)
    kind = records.dtype[stored] if stored is not None else np.dtype(np.float64)
    if kind.kind in "iu" and name != "scan_angle":
        whole = np.rint(np.nan_to_num(np.asarray(values, np.float64)))
        ends = np.iinfo(kind)
        if len(whole) and (whole.min() < ends.min or whole.max() > ends.max):
            raise InputError(
                f"{path} has {name} from {whole.min():g} to {whole.max():g}",
                f"{ends.min:,} to {ends.max:,} are possible",
                "leave the column out with - in --columns, or scale it first",
            )
        values = whole.astype(kind)
    put_values(records, layout, name, values)


class Steps:
    """Learns from coordinates how fine they are and how far they reach; then tells the scaling."""

    def __init__(self, path: object) -> None:
        self._path = path
        self.digits = [0, 0, 0]
        self.low = [np.inf] * 3
        self.high = [-np.inf] * 3

    def look(self, axis: int, values: Values) -> None:
        held = np.asarray(values, np.float64)
        held = held[np.isfinite(held)]
        if not held.size:
            return
        if np.abs(held).max() > _FARTHEST:
            raise InputError(
                f"{self._path} has {'xyz'[axis]} up to {np.abs(held).max():.3g}",
                f"no place lies farther than {_FARTHEST:g}",
                "say what its columns are with --columns, or mend the point",
            )
        self.low[axis] = min(self.low[axis], float(held.min()))
        self.high[axis] = max(self.high[axis], float(held.max()))
        while self.digits[axis] < _DIGITS:
            steps = held * 10.0 ** self.digits[axis]
            if (np.abs(steps - np.rint(steps)) < 1e-4 + np.abs(steps) * 1e-13).all():
                break
            self.digits[axis] += 1

    def scaling(self) -> Scaling:
        """The finest steps that are needed, as far as 32 bits reach from a whole offset in the middle."""
        scales, offsets = [], []
        for axis in range(3):
            low, high = self.low[axis], self.high[axis]
            if low > high:
                low = high = 0.0
            middle, digits = float(np.rint((low + high) / 2)), self.digits[axis]
            while max(high - middle, middle - low) * 10.0**digits >= 2**31 - 1:
                digits -= 1
            scales.append(10.0**-digits)
            offsets.append(middle)
        return Scaling((scales[0], scales[1], scales[2]), (offsets[0], offsets[1], offsets[2]))
