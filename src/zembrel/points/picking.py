"""Which points are meant: by class, return, condition and place."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import UsageError
from zembrel.expression.formula import Condition
from zembrel.points.model import Array, Bounds3, PointBlock

Mask = npt.NDArray[np.bool_]
_WORDS: dict[str, Callable[[Any, Any], Any]] = {
    "first": lambda number, returns: number <= 1,
    "last": lambda number, returns: number >= returns,
    "single": lambda number, returns: returns <= 1,
    "intermediate": lambda number, returns: (number > 1) & (number < returns),
}


@dataclass(frozen=True)
class Picking:
    """Points of some classes and returns that meet a condition; None for any."""

    classes: frozenset[int] | None = None
    returns: str | frozenset[int] | None = None
    condition: Condition | None = None

    @property
    def all(self) -> bool:
        return self.classes is None and self.returns is None and self.condition is None

    @cached_property
    def names(self) -> frozenset[str]:
        """Names of the values that are looked at."""
        named = {"class"} if self.classes is not None else set()
        return frozenset(named | set(self.condition.names if self.condition is not None else ()))

    def mask(self, block: PointBlock) -> Mask:
        """Which points of a block are picked. Raises UsageError for a value that is not there."""
        kept = np.ones(len(block), bool)
        if self.classes is not None:
            kept &= np.isin(block.values("class"), list(self.classes))
        if isinstance(self.returns, str):
            kept &= _WORDS[self.returns](block.values("return"), block.values("returns"))
        elif self.returns is not None:
            kept &= np.isin(block.values("return"), list(self.returns))
        if self.condition is not None:
            self.condition.check_names(block.layout.names)
            kept &= self.condition.met({n: _numbers_of(block, n) for n in self.condition.names}, len(block))
        return kept

    def __str__(self) -> str:
        said = []
        if self.classes is not None:
            said.append("classes " + ", ".join(map(str, sorted(self.classes))))
        if self.returns is not None:
            which = (
                self.returns if isinstance(self.returns, str) else ", ".join(map(str, sorted(self.returns)))
            )
            said.append(f"returns {which}")
        return ", ".join([*said, *([self.condition.text] if self.condition is not None else [])])


def _numbers_of(block: PointBlock, name: str) -> npt.NDArray[Any]:
    """Values of a block as numbers that can be compared."""
    values = block.values(name)
    return values.astype(np.int64) if values.dtype.kind in "iu" else values


def parse_classes(text: str | None) -> frozenset[int] | None:
    """`2`, `2,9` or `3-5` as numbers of classes. Raises UsageError."""
    return None if text is None else _numbers(text, "--classes", 255)


def parse_returns(text: str | None) -> str | frozenset[int] | None:
    """`first`, `last`, `single`, `intermediate` or numbers of returns. Raises UsageError."""
    if text is None or text in _WORDS:
        return text
    return _numbers(text, "--returns", 15)


def _numbers(text: str, option: str, most: int) -> frozenset[int]:
    found: set[int] = set()
    for part in text.split(","):
        low, dash, high = part.strip().partition("-")
        if not low.isdigit() or (dash and not high.isdigit()) or int(high or low) > most:
            example = "first, last, single, intermediate or 1,2" if option == "--returns" else "2,9 or 3-5"
            raise UsageError(
                f"{option} {text}", f"numbers up to {most} are possible", f"write {option} {example}"
            )
        found |= set(range(int(low), int(high or low) + 1))
    return frozenset(found)


@dataclass(frozen=True)
class Inside:
    """Points within a rectangle (its west and north edges included), and within a polygon if there is one."""

    bounds: tuple[float, float, float, float]
    polygon: Any = None
    outside: bool = False

    @cached_property
    def _stored(self) -> bytes:
        return bytes(shapely.to_wkb(self.polygon))

    @cached_property
    def _of_threads(self) -> threading.local:
        return threading.local()

    @property
    def _prepared(self) -> Any:
        """The polygon, indexed: one for each thread, since an index is built at its first questions."""
        held = getattr(self._of_threads, "polygon", None)
        if held is None:
            held = self._of_threads.polygon = shapely.from_wkb(self._stored)
            shapely.prepare(held)
        return held

    def __getstate__(self) -> dict[str, Any]:
        return {"bounds": self.bounds, "polygon": self.polygon, "outside": self.outside}

    def mask(self, x: Array, y: Array) -> Mask:
        """Which of the points (n,) are meant."""
        west, south, east, north = self.bounds
        kept = (x >= west) & (x < east) & (y > south) & (y <= north)
        if self.polygon is not None:
            kept = (x >= west) & (x <= east) & (y >= south) & (y <= north)
            near = np.flatnonzero(kept)
            kept[near] = shapely.intersects_xy(self._prepared, x[near], y[near])
        return ~kept if self.outside else kept

    def meets(self, bounds: Bounds3 | None) -> bool:
        """Whether any point within bounds may be meant; unknown bounds may."""
        if bounds is None or self.outside:
            return True
        west, south, east, north = self.bounds
        box = bounds[0], bounds[1], bounds[3], bounds[4]
        if box[2] < west or box[0] > east or box[3] < south or box[1] > north:
            return False
        return self.polygon is None or bool(shapely.intersects(self._prepared, shapely.box(*box)))
