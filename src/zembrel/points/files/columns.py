"""Named columns to records and back, for files that are tables of points."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.nested import json_of
from zembrel.points.las.extra import STORED, extra_field
from zembrel.points.model import PointBlock, Scaling
from zembrel.points.records import ExtraField, Layout, Values, put_values

SKIPPED = "-"  # a column that is not wanted
_MEANT = {
    "easting": "x", "east": "x", "lon": "x", "longitude": "x", "northing": "y", "north": "y", "lat": "y",
    "latitude": "y", "height": "z", "elevation": "z", "elev": "z", "altitude": "z", "i": "intensity",
    "classification": "class", "return_number": "return", "number_of_returns": "returns", "r": "red",
    "g": "green", "b": "blue", "infrared": "nir", "time": "gps_time", "t": "gps_time",
    "point_source_id": "source", "scan_direction": "direction",
}  # fmt: skip
_COLOURS = ("red", "green", "blue")
_LETTERS = ("r", "g", "b")  # that mean colours only together
_MOST_TOLD = 65_536  # characters
_FARTHEST = 1e12
_DIGITS = 9  # after the point, at most


def meant(names: Sequence[str], told: Mapping[str, ExtraField] = {}) -> tuple[str, ...]:
    """Names of columns as values are called here; those of `told` fields are theirs.

    Raises UsageError for one given twice.
    """
    words = [name.strip().strip('"') for name in names]
    words = [word if word in told else word.lower() for word in words]
    kept = {*told, *(() if set(_LETTERS) <= set(words) else _LETTERS)}
    found = [
        word if word in kept or _MEANT.get(word) in words else _MEANT.get(word, word) or SKIPPED
        for word in words
    ]
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


def fields_told(layout: Layout, names: Sequence[str]) -> str:
    """JSON of the types, scales and offsets in which extra bytes of these names are stored."""
    told = [field for field in layout.extra if field.name in names and field.type in STORED]
    return json.dumps({field.name: [field.type, *_numbers_of(field)] for field in told})


def _numbers_of(field: ExtraField) -> tuple[float, ...]:
    """Scale and offset, as far as there are some."""
    return (*(field.scale or ((1.0,) if field.offset else ())), *field.offset)


def read_fields_told(text: str | bytes) -> dict[str, ExtraField]:
    """The fields of such a JSON by name; none of any other text, and no field that says something else."""
    try:
        told = json_of(text) if len(text) <= _MOST_TOLD else {}
    except ValueError:
        return {}
    if not isinstance(told, dict):
        return {}
    fields = (_field_told(str(name), facts) for name, facts in told.items())
    return {field.name: field for field in fields if field is not None}


def _field_told(name: str, facts: Any) -> ExtraField | None:
    if not isinstance(facts, list) or not 1 <= len(facts) <= 3 or facts[0] not in STORED:
        return None
    numbers = [float(part) for part in facts[1:] if isinstance(part, int | float)]
    if len(numbers) < len(facts) - 1 or not np.isfinite(numbers).all() or 0.0 in numbers[:1]:
        return None
    return ExtraField(name, facts[0], 1, tuple(numbers[:1]), tuple(numbers[1:]))


def unheld(layout: Layout, widest: int = 8) -> tuple[str, ...]:
    """Extra bytes that no column of numbers of so many bytes holds: arrays, bytes of no type, wider ones."""
    return tuple(
        field.name for field in layout.extra
        if field.items > 1 or field.type not in STORED or (field.type[-2] in "iu" and field.size > widest)
    )  # fmt: skip


def layout_for(kinds: Mapping[str, np.dtype[np.generic]], told: Mapping[str, ExtraField] = {}) -> Layout:
    """The layout that holds values of these names and types; what no point format has becomes extra bytes, of
    the types that are told."""
    number = 8 if "nir" in kinds else 7 if set(_COLOURS) & set(kinds) else 6
    known = Layout(number).names
    new = {name: kind for name, kind in kinds.items() if name not in known and name != SKIPPED}
    extra = tuple(told[name] if name in told else extra_field(name, kind) for name, kind in new.items())
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
    scaled = any(field.name == name and (field.scale or field.offset) for field in layout.extra)
    if kind.kind in "iu" and name != "scan_angle" and not scaled:
        held = np.asarray(values)
        whole = held if held.dtype.kind in "iu" else np.rint(np.nan_to_num(held.astype(np.float64)))
        ends = np.iinfo(kind)
        if len(whole) and (whole.min() < ends.min or whole.max() > ends.max):
            raise InputError(
                f"{path} has {name} from {whole.min():g} to {whole.max():g}",
                f"{ends.min:,} to {ends.max:,} are possible",
                "leave the column out with - in --columns, or scale it first",
            )
        values = whole.astype(kind)
    put_values(records, layout, name, values)


def kind_told(name: str, told: Mapping[str, ExtraField]) -> np.dtype[Any] | None:
    """The type of the numbers in a column of text, if it is known; None if its words tell it."""
    if name in ("x", "y", "z"):
        return np.dtype(np.float64)
    field = told.get(name)
    return np.dtype(field.type) if field is not None and not (field.scale or field.offset) else None


def narrowest(values: Values) -> np.dtype[np.generic]:
    """The smallest type that holds these numbers."""
    if values.dtype.kind != "i" or not len(values):
        return values.dtype
    low, high = int(values.min()), int(values.max())
    return np.promote_types(np.min_scalar_type(low), np.min_scalar_type(high))


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
