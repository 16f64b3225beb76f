"""Chips cut out of an image and its labels."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.deliver.chips.layout import ChipPlace
from zembrel.deliver.chips.stores import Chip
from zembrel.engine.limits import Limits, each
from zembrel.grid.pane import Pane
from zembrel.raster.model import Raster, shared_type
from zembrel.raster.views.overlap import everywhere

Array = npt.NDArray[Any]


class LabelledImage(NamedTuple):
    """The image and its labels on one frame."""

    image: Raster
    labels: Raster | None


def shares_of(labels: Raster, panes: Sequence[Pane], limits: Limits) -> list[Mapping[int, float]]:
    """How much of each square each class has."""
    largest = max((pane.size for pane in panes), default=1) * 8
    return list(each(panes, _Shares(labels), limits, size=lambda pane: pane.size, item_bytes=largest))


@dataclass(frozen=True, eq=False)
class _Shares:
    """How much of a square each class has."""

    labels: Raster

    def __call__(self, pane: Pane) -> dict[int, float]:
        block = self.labels.cells(pane)
        codes, counts = np.unique(block.values, return_counts=True)
        return {int(code): count / pane.size for code, count in zip(codes, counts, strict=True)}


@dataclass(frozen=True, eq=False)
class _ChipTask:
    """Image, validity and label of a square; None if nothing in it is valid."""

    views: LabelledImage

    def __call__(self, place: ChipPlace) -> tuple[Array, Array | None, Array | None] | None:
        block = self.views.image.cells(place.pane)
        known, cells = everywhere(block), block.cells
        if not known.any():
            return None
        if not known.all():
            cells = np.where(
                known, cells, np.zeros((), cells.dtype)
            )  # what stands in void cells means nothing
        label = None
        if self.views.labels is not None:
            held = self.views.labels.cells(place.pane)
            label = held.cells[0] if held.valid is None else np.where(held.valid_of(0), held.cells[0], 0)
        return cells, None if known.all() else known, label


def chips_of(views: LabelledImage, places: Sequence[ChipPlace], limits: Limits) -> Iterator[Chip]:
    """Chips in their order, numbered, without the empty ones."""
    largest = max((place.pane.size for place in places), default=1) * shared_type(views.image.bands).itemsize
    item_bytes = largest * len(views.image.bands)
    done = each(places, _ChipTask(views), limits, size=lambda place: place.pane.size, item_bytes=item_bytes)
    number = 0
    for place, held in zip(places, done, strict=True):
        if held is not None:
            number += 1
            yield Chip(number, place.split, views.image.frame.crop(place.pane), *held)
