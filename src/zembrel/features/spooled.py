"""Features kept on the disk in passing, so that a layer of any length goes through memory part by part."""

from __future__ import annotations

import pickle
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.features.files.schema import LayerSeen
from zembrel.features.table import FeatureTable
from zembrel.scratch import Scratch


class SpooledLayer:
    """Parts of a layer, gone through once: what the whole holds (`seen`), and the parts again as that says.

    A single part stays in memory. Ids are kept only if all parts have some and none occurs twice.
    """

    def __init__(self, parts: Iterable[FeatureTable]) -> None:
        self.seen = LayerSeen()
        self._alone: FeatureTable | None = None
        self._scratch: Scratch | None = None
        self._ids: list[Any] = []
        for number, part in enumerate(parts):
            self.seen.add(part)
            self._ids += [] if part.ids is None else [part.ids]
            if number == 0:
                self._alone = part
                continue
            if self._alone is not None:
                self._scratch, first = Scratch(), self._alone
                self._alone = None
                self._keep(first)
            self._keep(part)
        if self._alone is None:
            self.seen.told &= _distinct(self._ids)

    @property
    def _path(self) -> Path:
        assert self._scratch is not None
        return self._scratch.path / "features"

    def _keep(self, part: FeatureTable) -> None:
        bodies = shapely.to_wkb(part.geometries, output_dimension=3)
        with self._path.open("ab") as file:
            pickle.dump((bodies, dict(part.columns), part.ids), file, pickle.HIGHEST_PROTOCOL)

    def __iter__(self) -> Iterator[FeatureTable]:
        """The parts, each with all columns of the whole."""
        if self._alone is not None:
            yield self._alone
        if self._scratch is None:
            return
        with self._path.open("rb") as file:
            while file.peek(1):
                bodies, columns, ids = pickle.load(file)
                part = FeatureTable(shapely.from_wkb(bodies), columns, self.seen.crs, ids=ids)
                yield self.seen.fitted(part)


def _distinct(ids: list[Any]) -> bool:
    told = np.concatenate(ids) if ids else np.zeros(0)
    if told.dtype.kind in "iu":
        return bool(np.unique(told).size == told.size)
    return len({*map(repr, told.tolist())}) == told.size
