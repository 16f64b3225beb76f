"""Ways from one datum to another through the registry's transformations, and which is best at a place."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from itertools import groupby

from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.transformation import (
    LONGITUDE_ROTATION,
    WORLD,
    Bounds,
    Concatenated,
    Step,
    Transformation,
    datum_of_crs,
    from_datum,
    selected,
    stated,
)

HUB = 6326  # WGS 84, by way of which two datums meet that have no transformation of their own
Place = tuple[float, float] | None


@dataclass(frozen=True)
class Way:
    """Steps one after the other; none where nothing is to be done or nothing is known."""

    steps: tuple[Step, ...] = ()

    @property
    def label(self) -> str:
        return " and ".join(step.label for step in self.steps)

    @property
    def accuracy(self) -> float:
        """Metres, those of all steps together."""
        return sum(step.accuracy for step in self.steps)

    @property
    def computable(self) -> bool:
        """Whether no step needs a file or a method that is not known."""
        return all(step.computable for step in self.registered)

    @property
    def registered(self) -> tuple[Transformation | Concatenated, ...]:
        return tuple(step for step in self.steps if isinstance(step, Transformation | Concatenated))

    @property
    def needs_grid(self) -> bool:
        return any(step.grid for step in self.registered)

    @property
    def reversed(self) -> Way:
        return Way(tuple(step.reversed for step in reversed(self.steps)))

    def __add__(self, other: Way) -> Way:
        return Way(self.steps + other.steps)

    def holds(self, place: Place) -> bool:
        """Whether a place lies in the area of use of all steps."""
        return all(holds(step.area, place) for step in self.steps)

    @property
    def size(self) -> float:
        """Of the areas of use together, square degrees."""
        return sum(size(step.area) for step in self.steps)


def ways(source: int, target: int) -> list[Way]:
    """All that lead from datum `source` to `target`; two by way of the hub only if none is computable."""
    direct = _unique([*_reach(source, target), *(way.reversed for way in _reach(target, source))])
    if any(way.computable for way in direct) or HUB in (source, target):
        return direct
    onwards = [way.reversed for way in _reach(target, HUB)]
    return [*direct, *(one + other for one in _reach(source, HUB) for other in onwards)]


def by_accuracy(found: Iterable[Way]) -> list[Way]:
    """Those first that can be computed or lack but a file, then by accuracy."""
    return sorted(found, key=lambda way: (not (way.computable or way.needs_grid), way.accuracy))


def best(found: Iterable[Way], place: Place) -> Way | None:
    """The best computable way at a place: of those with the place in their area of use the most accurate,
    else the one of the largest area."""

    def rank(way: Way) -> tuple[float, ...]:
        newer = -float(way.registered[0].code)
        if way.holds(place):
            return 0.0, way.accuracy, way.size, newer
        return 1.0, -way.size, way.accuracy, newer

    return min((way for way in found if way.computable), key=rank, default=None)


def _unique(found: Iterable[Way]) -> list[Way]:
    return list({way.steps: way for way in found}.values())


def _reach(source: int, goal: int) -> list[Way]:
    """Ways of one registered operation, after a change of the prime meridian if need be."""
    found = [*_concatenated(source, goal), *(Way((s,)) for s in from_datum(source) if s.target == goal)]
    for turn in from_datum(source):
        if turn.method == LONGITUDE_ROTATION and turn.target != goal:
            found += [Way((turn, step)) for step in from_datum(turn.target) if step.target == goal]
    return found


def _concatenated(source: int, goal: int) -> list[Way]:
    return [way for start, end, way in _all_concatenated() if (start, end) == (source, goal)]


@lru_cache(maxsize=1)
def _all_concatenated() -> tuple[tuple[int, int, Way], ...]:
    """Start, end and way of the registry's concatenated operations whose steps join between datums."""
    datums = datum_of_crs()
    query = """SELECT o.*, e.west, e.south, e.east, e.north, s.single
        FROM operation o JOIN step s ON s.operation = o.code LEFT JOIN extent e ON e.code = o.extent
        WHERE o.kind LIKE 'concatenated%' AND NOT o.deprecated ORDER BY o.code, s.position"""
    single = {s.code: s for s in selected("o.code IN (SELECT single FROM step)")}
    made = []
    for code, group in groupby(rows(query), key=lambda r: r["code"]):
        members = list(group)
        first = members[0]
        start, end = datums.get(first["source"]), datums.get(first["target"])
        steps = _chained(start, [single.get(r["single"]) for r in members])
        if steps is None or start is None or end is None or steps[-1].target != end:
            continue
        own = Concatenated(code, first["name"], steps, *stated(first))
        made.append((start, end, Way((own,))))
    return tuple(made)


def _chained(start: int | None, members: list[Transformation | None]) -> tuple[Transformation, ...] | None:
    """The steps turned so that each begins where the one before ends; None if they do not join."""
    at, chain = start, []
    for step in members:
        if step is None or at not in (step.source, step.target):
            return None
        chain.append(step if step.source == at else step.reversed)
        at = chain[-1].target
    return tuple(chain)


def holds(area: Bounds, place: Place) -> bool:
    """Whether a place, degrees, lies in an area; no place lies in the world alone."""
    if place is None:
        return area == WORLD
    (west, south, east, north), (lon, lat) = area, place
    lon = (lon + 180) % 360 - 180
    across = west <= lon <= east if west <= east else lon >= west or lon <= east
    return across and south <= lat <= north


def size(area: Bounds) -> float:
    """Square degrees."""
    west, south, east, north = area
    return ((east - west) % 360.0001) * (north - south)
