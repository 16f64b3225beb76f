"""Columns of attributes: what their values are, all at once or part by part."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any

import numpy as np
import numpy.typing as npt

Column = npt.NDArray[Any]
INTEGER, REAL, TRUTH, DAY, MOMENT, NESTED, TEXT = (
    "integer",
    "real",
    "truth",
    "day",
    "moment",
    "nested",
    "text",
)
_BY_DTYPE = {"i": int, "u": int, "f": float, "b": bool}
_LEAST, _MOST = -(2**63), 2**63 - 1


@dataclass
class ColumnSeen:
    """What a column holds, learned from its values in any number of parts.

    types: of values that are there; missing: whether some are not; wide: whether a whole number needs more
    than 64 bits; zones: of times, None where one has none.
    """

    types: set[type] = field(default_factory=set)
    missing: bool = False
    wide: bool = False
    zones: set[str | None] = field(default_factory=set)

    def add(self, values: Column) -> None:
        """Learn from a part; NaN among floats is missing, as None among objects is."""
        plain = _BY_DTYPE.get(values.dtype.kind)
        if plain is not None:
            self.types.add(plain)
            self.missing |= plain is float and bool(np.isnan(values).any())
            return
        told = [value for value in values.tolist() if value is not None]
        kinds = set(map(type, told))
        self.types |= kinds
        self.missing |= len(told) < len(values)
        if int in kinds:
            self.wide |= any(type(value) is int and not _LEAST <= value <= _MOST for value in told)
        if datetime in kinds:
            self.zones |= {_zone(value) for value in told if type(value) is datetime}

    def lack(self) -> None:
        """A part has no such column: its values are missing."""
        self.missing = True

    @property
    def dtype(self) -> np.dtype[Any]:
        """The narrowest that holds all exactly."""
        if self.types == {bool} and not self.missing:
            return np.dtype(bool)
        if self.types == {int} and not self.missing and not self.wide:
            return np.dtype(np.int64)
        return np.dtype(np.float64 if float in self.types and self.types <= {int, float} else object)

    @property
    def kind(self) -> str:
        """`integer`, `real`, `truth`, `day`, `moment`, `nested` or `text`."""
        if float in self.types and self.types <= {int, float}:
            return REAL
        if self.types and self.types <= {list, dict}:
            return NESTED
        if self.types == {int}:
            return TEXT if self.wide else INTEGER
        if self.types == {datetime} and None in self.zones and len(self.zones) > 1:
            return TEXT  # nobody knows how those of one zone and those of none follow each other
        alone = next(iter(self.types)) if len(self.types) == 1 else None
        return {bool: TRUTH, date: DAY, datetime: MOMENT}.get(alone, TEXT)  # type: ignore[arg-type]

    @property
    def zone(self) -> str:
        """The time zone of times: the one that all name, UTC if they differ, empty for none."""
        named = {zone for zone in self.zones if zone is not None}
        return named.pop() if len(named) == 1 else "UTC" if named else ""

    def column(self, values: Sequence[Any]) -> Column:
        """Values, None where missing, as all parts are held."""
        dtype = self.dtype
        if dtype.kind == "f":
            return np.array([np.nan if value is None else value for value in values], dtype)
        return np.fromiter(values, dtype, len(values))

    def fitted(self, values: Column) -> Column:
        """A part of the column as all parts are held."""
        return values if values.dtype == self.dtype else self.column(plain(values))


def _zone(moment: datetime) -> str | None:
    return None if moment.tzinfo is None else str(moment.tzinfo).removeprefix("UTC") or "UTC"


def held_in(values: Column) -> ColumnSeen:
    """What a whole column holds."""
    held = ColumnSeen()
    held.add(values)
    return held


def column(values: Sequence[Any]) -> Column:
    """Values as the narrowest column that holds them exactly; None is missing."""
    made = np.fromiter(values, object, len(values))
    held = held_in(made)
    return made if held.dtype.kind == "O" else held.column(values)


def kind_of(values: Column) -> str:
    """What a column holds: `integer`, `real`, `truth`, `day`, `moment`, `nested` or `text`."""
    return held_in(values).kind


def plain(values: Column) -> list[Any]:
    """The values of a column, missing ones as None."""
    if values.dtype.kind == "f":
        return [None if value != value else value for value in values.tolist()]
    return list(values.tolist())
