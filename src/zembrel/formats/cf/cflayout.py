"""How bands become variables: those that are slices of one stand in it, with their dimensions."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import RefusedError
from zembrel.raster.model import Band, Dimension, SlicePlace

EDGE = "edge"  # the dimension of the two ends of a cell


class Spread(NamedTuple):
    """A dimension as it is written: name, coordinates (n,), edges (n, 2) or None, attributes or None."""

    name: str
    values: npt.NDArray[Any]
    edges: npt.NDArray[np.float64] | None
    attributes: dict[str, Any] | None


class WrittenVariable(NamedTuple):
    """A variable as it is written: name, its dimensions beside rows and columns, the band that tells of it,
    and the index of each of its bands along them."""

    name: str
    spread: tuple[Spread, ...]
    band: Band
    places: Mapping[int, tuple[int, ...]]


def written_variables(bands: Sequence[Band], taken: Sequence[str]) -> list[WrittenVariable]:
    """The variables of `bands`; names of `taken` are those of axes. Raises RefusedError for twins."""
    groups = _groups(bands)
    names = _variable_names([name for name, _ in groups], taken)
    spreads = _Spreads({*taken, *names, EDGE})
    made = []
    for name, (_, members) in zip(names, groups, strict=True):
        slots = [held.places if (held := bands[n].slot) else () for n in members]
        axes = [_places([places[k] for places in slots]) for k in range(len(slots[0]))]
        spread = tuple(spreads.of(axis) for axis in axes)
        numbers = [{place.value: n for n, place in enumerate(axis)} for axis in axes]
        index = {
            n: tuple(along[place.value] for along, place in zip(numbers, places, strict=True))
            for n, places in zip(members, slots, strict=True)
        }
        made.append(WrittenVariable(name, spread, bands[members[0]], index))
    return made


def _groups(bands: Sequence[Band]) -> list[tuple[str, list[int]]]:
    """Name and bands of each variable; slices that do not fill one stand by themselves."""
    together: dict[str, list[int]] = {}
    for n, band in enumerate(bands):
        key = band.slot.variable if band.slot is not None else f"band {n}"
        together.setdefault(key, []).append(n)
    groups: list[tuple[str, list[int]]] = []
    for key, members in together.items():
        if bands[members[0]].slot is not None and _fills([bands[n] for n in members]):
            own = bands[members[0]].name
            renamed = len(members) == 1 and not own.startswith(key)
            groups.append((own if renamed else key, members))
        else:
            groups += [(bands[n].name, [n]) for n in members]
    return groups


def _fills(bands: Sequence[Band]) -> bool:
    """Whether the bands are alike but for their places, and have each place of their dimensions once."""
    slots = [band.slot for band in bands]
    first = bands[0]
    held = [slot.places for slot in slots if slot is not None]
    if len({tuple(place.dimension for place in places) for places in held}) > 1:
        return False
    if any(_sort(band) != _sort(first) for band in bands[1:]):
        return False
    sizes = [len(_places([places[k] for places in held])) for k in range(len(held[0]))]
    told = {tuple(place.value for place in places) for places in held}
    return len(told) == len(bands) == math.prod(sizes)


def _sort(band: Band) -> tuple[Any, ...]:
    """What all bands of a variable share."""
    return band.type, band.nodata, band.unit, band.colour, band.legend, band.scale, band.offset


def _places(along: Sequence[SlicePlace]) -> list[SlicePlace]:
    """The different places along a dimension, in the order in which they come."""
    return list({place.value: place for place in along}.values())


def spreads_of(variables: Sequence[WrittenVariable]) -> list[Spread]:
    """The dimensions of all variables, each once."""
    return list({spread.name: spread for written in variables for spread in written.spread}.values())


class _Spreads:
    """Dimensions under names of their own; those with the same coordinates are one."""

    def __init__(self, taken: set[str]) -> None:
        self._taken = taken
        self._known: dict[tuple[Dimension, tuple[SlicePlace, ...]], Spread] = {}

    def of(self, places: Sequence[SlicePlace]) -> Spread:
        dimension = places[0].dimension
        key = dimension, tuple(places)
        if key not in self._known:
            self._known[key] = self._made(dimension, places)
        return self._known[key]

    def _made(self, dimension: Dimension, places: Sequence[SlicePlace]) -> Spread:
        plain = re.sub(r"\W+", "_", dimension.name, flags=re.ASCII) or "along"
        name, again = plain, 1
        while name in self._taken:
            again += 1
            name = f"{plain}_{again}"
        self._taken.add(name)
        values = np.array([place.value for place in places])
        edges = [place.edges for place in places if place.edges is not None]
        whole = np.array(edges, float) if len(edges) == len(places) else None
        return Spread(
            name, values, whole, None if dimension.attributes is None else dict(dimension.attributes)
        )


def _variable_names(names: Sequence[str], taken: Sequence[str]) -> list[str]:
    """Names of letters, digits and underscores. Raises RefusedError for twins."""
    words = [re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_") or "band" for name in names]
    words = [f"band_{word}" if word[0].isdigit() or word in taken else word for word in words]
    if len(set(words)) < len(words):
        raise RefusedError("two bands would have one name", ", ".join(words), "name them with label --names")
    return words
