"""Point records: the fields of formats 0 to 10 and of extra bytes, and values by their names.

Source: LAS Specification 1.4 R15, tables 7 to 17 (point data records) and section 4, tables 24 and 25 (extra
bytes).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError, nearest_name

Records = npt.NDArray[np.void]
Values = npt.NDArray[Any]
_PLACE = [("X", "<i4"), ("Y", "<i4"), ("Z", "<i4"), ("intensity", "<u2"), ("returns", "u1")]
_SHORT = [*_PLACE, ("class", "u1"), ("scan_angle", "i1"), ("user_data", "u1"), ("source", "<u2")]
_LONG = [
    *_PLACE, ("flags", "u1"), ("class", "u1"), ("user_data", "u1"), ("scan_angle", "<i2"), ("source", "<u2"),
    ("gps_time", "<f8"),
]  # fmt: skip
_TIME = [("gps_time", "<f8")]
_RGB = [("red", "<u2"), ("green", "<u2"), ("blue", "<u2")]
_NIR = [("nir", "<u2")]
_WAVE = [
    ("wave_index", "u1"), ("wave_offset", "<u8"), ("wave_size", "<u4"), ("wave_return", "<f4"),
    ("wave_x", "<f4"), ("wave_y", "<f4"), ("wave_z", "<f4"),
]  # fmt: skip
FORMATS: tuple[list[tuple[str, str]], ...] = (
    _SHORT,
    _SHORT + _TIME,
    _SHORT + _RGB,
    _SHORT + _TIME + _RGB,
    _SHORT + _TIME + _WAVE,
    _SHORT + _TIME + _RGB + _WAVE,
    _LONG,
    _LONG + _RGB,
    _LONG + _RGB + _NIR,
    _LONG + _WAVE,
    _LONG + _RGB + _NIR + _WAVE,
)
ANGLE_STEP = 0.006  # degrees of one unit of the scan angle in formats 6 to 10
_EXTRA_TYPES = ("u1", "i1", "<u2", "<i2", "<u4", "<i4", "<u8", "<i8", "<f4", "<f8")  # data types 1 to 10


class ExtraField(NamedTuple):
    """A field of extra bytes: its stored type, what makes values of that, and its 192 bytes as they came."""

    name: str
    type: str  # of NumPy; "V4" for bytes of which nothing is known
    items: int = 1  # 2 or 3 for the arrays that old files have
    scale: tuple[float, ...] = ()
    offset: tuple[float, ...] = ()
    described: bytes = b""

    @property
    def size(self) -> int:
        return np.dtype(self.type).itemsize * self.items


@dataclass(frozen=True)
class Layout:
    """What a record holds: one of formats 0 to 10, and extra bytes behind it."""

    format: int
    extra: tuple[ExtraField, ...] = ()

    @cached_property
    def dtype(self) -> np.dtype[np.void]:
        fields: list[Any] = list(FORMATS[self.format])
        for number, field in enumerate(self.extra):
            kind = (field.type, (field.items,)) if field.items > 1 else (field.type,)
            fields.append((f"extra{number}", *kind))
        return np.dtype(fields)

    @property
    def long(self) -> bool:
        """Whether it is one of formats 6 to 10."""
        return self.format >= 6

    @property
    def has_waves(self) -> bool:
        return self.format in (4, 5, 9, 10)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of all values that a point has."""
        held = [*("x", "y", "z"), *(name for name in _READERS if _held(self, name))]
        plain = [n for n in self.dtype.names or () if n not in _SPECIAL and not n.startswith("extra")]
        return (*dict.fromkeys([*held, *plain]), *(field.name for field in self.extra))

    def stored(self, name: str) -> str | None:
        """The field of the records that holds the values of that name; None for x, y and z."""
        for number, field in enumerate(self.extra):
            if field.name == name:
                return f"extra{number}"
        if name in ("x", "y", "z"):
            return name.upper()
        if name in _READERS and _held(self, name):
            return _field_of(self, name)
        return name if name in (self.dtype.names or ()) and name not in _SPECIAL else None


_SPECIAL = ("X", "Y", "Z", "flags")


class _Bits(NamedTuple):
    """Where a value of a few bits lies: field, first bit and how many; in short and in long records."""

    short: tuple[str, int, int] | None
    long: tuple[str, int, int] | None


# LAS 1.4, tables 7 and 16: values of a few bits
_READERS: dict[str, _Bits] = {
    "return": _Bits(("returns", 0, 3), ("returns", 0, 4)),
    "returns": _Bits(("returns", 3, 3), ("returns", 4, 4)),
    "class": _Bits(("class", 0, 5), ("class", 0, 8)),
    "synthetic": _Bits(("class", 5, 1), ("flags", 0, 1)),
    "key_point": _Bits(("class", 6, 1), ("flags", 1, 1)),
    "withheld": _Bits(("class", 7, 1), ("flags", 2, 1)),
    "overlap": _Bits(None, ("flags", 3, 1)),
    "channel": _Bits(None, ("flags", 4, 2)),
    "direction": _Bits(("returns", 6, 1), ("flags", 6, 1)),
    "edge": _Bits(("returns", 7, 1), ("flags", 7, 1)),
}


def _bits(layout: Layout, name: str) -> tuple[str, int, int] | None:
    return _READERS[name].long if layout.long else _READERS[name].short


def _held(layout: Layout, name: str) -> bool:
    return _bits(layout, name) is not None


def _field_of(layout: Layout, name: str) -> str:
    found = _bits(layout, name)
    assert found is not None
    return found[0]


def values_of(records: Records, layout: Layout, name: str) -> Values:
    """Values of that name but x, y and z, as they are meant. Raises InputError for one that is not there."""
    if name in _READERS and (where := _bits(layout, name)) is not None:
        field, first, count = where
        return (records[field] >> np.uint8(first)) & np.uint8((1 << count) - 1)
    if name == "scan_angle":
        return records[name] * (ANGLE_STEP if layout.long else 1.0)
    for number, extra in enumerate(layout.extra):
        if extra.name == name:
            stored = records[f"extra{number}"]
            if not extra.scale and not extra.offset:
                return stored
            scale, offset = extra.scale or (1.0,) * extra.items, extra.offset or (0.0,) * extra.items
            one = extra.items == 1
            return stored * (scale[0] if one else np.array(scale)) + (offset[0] if one else np.array(offset))
    if name in (layout.dtype.names or ()) and name not in _SPECIAL:
        return records[name]
    raise InputError(
        f"points have no {name!r}", f"they have {', '.join(layout.names)}", nearest_name(name, layout.names)
    )


def put_values(records: Records, layout: Layout, name: str, values: Values | int) -> None:
    """Store fitting values of that name into records in place. Raises InputError for one that is not
    there."""
    if name in _READERS and (where := _bits(layout, name)) is not None:
        field, first, count = where
        mask = ((1 << count) - 1) << first
        moved = (np.asarray(values).astype(np.uint8) << np.uint8(first)) & np.uint8(mask)
        records[field] = (records[field] & np.uint8(255 - mask)) | moved
        return
    if name == "scan_angle":
        ends = np.iinfo(records.dtype["scan_angle"])
        steps = np.nan_to_num(np.asarray(values, float)) / (ANGLE_STEP if layout.long else 1.0)
        values = np.rint(np.clip(steps, ends.min, ends.max))
    for extra in layout.extra:
        if extra.name == name and (extra.scale or extra.offset):
            values = _stored(extra, values)
    field = layout.stored(name) or name
    if field not in (layout.dtype.names or ()):
        raise InputError(f"points have no {name!r}", f"they have {', '.join(layout.names)}", "check the name")
    records[field] = values


def _stored(extra: ExtraField, values: Values | int) -> Values:
    """The numbers that stand for values of a field with a scale or an offset."""
    scale, offset = extra.scale or (1.0,) * extra.items, extra.offset or (0.0,) * extra.items
    numbers = (np.asarray(values, np.float64) - np.array(offset)) / np.array(scale)
    numbers = numbers if extra.items > 1 else np.reshape(numbers, np.shape(values))
    return np.rint(numbers) if np.dtype(extra.type).kind in "iu" else numbers


Losses = dict[str, int]


def regraded(records: Records, old: Layout, new: Layout) -> tuple[Records, Losses]:
    """Records in another layout, and of how many points which value is lost or changed by that."""
    made = np.zeros(len(records), new.dtype)
    lost: Losses = {}
    if old.long == new.long:
        for name in [n for n in _names(old) if n in _names(new) and not n.startswith("extra")]:
            made[name] = records[name]
    else:
        for name in ("X", "Y", "Z", "intensity", "user_data", "source"):
            made[name] = records[name]
        _across(records, made, old, new, lost)
    for name in _names(old):
        if name not in _names(new) and name not in ("flags",) and not name.startswith(("extra", "wave_")):
            _count(lost, f"{name} is lost", records[name] != 0)
    if old.has_waves and not new.has_waves:
        _count(lost, "the waveform is lost", records["wave_index"] != 0)
    for number, field in enumerate(old.extra):
        if field in new.extra:
            made[f"extra{new.extra.index(field)}"] = records[f"extra{number}"]
        else:
            lost[f"{field.name} is lost"] = len(records)
    return made, lost


def _names(layout: Layout) -> tuple[str, ...]:
    return layout.dtype.names or ()


def _count(lost: Losses, what: str, where: npt.NDArray[np.bool_]) -> None:
    if number := int(np.count_nonzero(where)):
        lost[what] = lost.get(what, 0) + number


def _across(records: Records, made: Records, old: Layout, new: Layout, lost: Losses) -> None:
    """Fields that formats 0 to 5 and 6 to 10 store in other ways."""

    def carry(name: str, fits: Callable[[Values], Values], otherwise: int, what: str) -> None:
        values = values_of(records, old, name)
        good = fits(values)
        _count(lost, what, ~good)
        put_values(made, new, name, np.where(good, values, otherwise))

    returns = 15 if new.long else 7
    carry("return", lambda v: v <= returns, returns, f"a return number above {returns} becomes {returns}")
    carry("returns", lambda v: v <= returns, returns, f"more than {returns} returns become {returns}")
    for name in ("synthetic", "key_point", "withheld", "direction", "edge"):
        carry(name, lambda v: v <= 1, 1, "")
    classes = values_of(records, old, "class")
    if new.long:  # LAS 1.4, table 17: class 12 of old became a flag
        put_values(made, new, "overlap", classes == 12)
        put_values(made, new, "class", np.where(classes == 12, 1, classes))
        _count(lost, "class 12 becomes class 1 and the flag of overlap", classes == 12)
    else:
        _count(lost, "a class above 31 becomes 1", classes > 31)
        put_values(made, new, "class", np.where(classes > 31, 1, classes))
        _count(lost, "the flag of overlap is lost", values_of(records, old, "overlap") != 0)
        _count(lost, "the scanner channel is lost", values_of(records, old, "channel") != 0)
    angles = values_of(records, old, "scan_angle")
    if new.long:
        put_values(made, new, "scan_angle", angles)
    else:
        whole = np.clip(np.rint(angles), -128, 127)
        _count(lost, "scan angles are rounded to degrees", np.abs(whole - angles) > ANGLE_STEP / 2)
        made["scan_angle"] = whole
    for name in (
        "gps_time",
        "red",
        "green",
        "blue",
        "nir",
        *(n for n in _names(new) if n.startswith("wave_")),
    ):
        if name in _names(old) and name in _names(new):
            made[name] = records[name]
