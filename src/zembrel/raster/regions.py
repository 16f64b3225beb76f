"""Regions of equal cells found strip by strip: values, sizes and outlines, as soon as each is complete."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.raster.kernels import regions as kernel
from zembrel.raster.model import Cells, Mask

Integers = npt.NDArray[np.int64]
_GROWTH = 4  # corners that a vertex may make


class Found(NamedTuple):
    """Complete regions: values and numbers of cells (n,), and their outlines: which region each is of (m,),
    where its corners begin (m + 1,), and the corners (k, 3): column, row, whether four edges meet there."""

    values: Cells
    cells: Integers
    owners: Integers
    starts: Integers
    corners: Integers


@dataclass
class RegionSweep:
    """A sweep over rows of `width` cells; what it keeps is what is open at the row it has come to.

    diagonal: whether cells that meet at a corner alone are of one region.
    """

    width: int
    diagonal: bool = False
    _row: int = 0
    _labels: int = 0  # in use
    _state: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        none = np.full(self.width + 1, kernel.NONE, np.int64)
        self._state = {
            "cells": np.zeros(self.width, np.int64),
            "known": np.zeros(self.width, bool),
            "labels": none[:-1].copy(),
            "heads": none.copy(),
            "tails": none.copy(),
            "parents": np.empty(0, np.int64),
            "counts": np.empty(0, np.int64),
            "values": np.empty(0, np.int64),
            "nodes": np.empty((0, 3), np.int64),
            "links": np.empty((0, 2), np.int64),
            "waiting": [],  # closed outlines of regions that are open: labels, sizes, corners
        }

    def strip(self, cells: Cells, known: Mask) -> Found:
        """Take in the next rows, (rows, columns) whole numbers; the regions that are complete with them."""
        return self._swept(np.ascontiguousarray(cells, np.int64), np.ascontiguousarray(known))

    def finish(self) -> Found:
        """The regions that reach the last row."""
        return self._swept(np.zeros((1, self.width), np.int64), np.zeros((1, self.width), bool))

    def _swept(self, cells: Integers, known: Mask) -> Found:
        state, rows = self._state, len(cells)
        room = rows * self.width
        parents, counts, values = (
            np.resize(state[key], self._labels + room) for key in ("parents", "counts", "values")
        )
        free = len(state["nodes"])
        nodes = np.empty((free + _GROWTH * rows * (self.width + 1), 3), np.int64)
        links = np.empty((len(nodes), 2), np.int64)
        nodes[:free], links[:free] = state["nodes"], state["links"]
        rings, found = np.empty((2 * rows * (self.width + 1), 2), np.int64), 0
        above = state["cells"], state["known"], state["labels"]
        for number in range(rows):
            labels = np.empty(self.width, np.int64)
            before = self._labels
            self._labels = kernel.label_row(
                cells[number], known[number], *above, self.diagonal, parents, counts, self._labels, labels
            )
            new = labels >= before
            values[labels[new]] = cells[number][new]
            below = cells[number], known[number], labels
            free, found = kernel.trace_row(
                self._row,
                (*above, *below),
                state["heads"],
                state["tails"],
                nodes,
                links,
                free,
                rings,
                found,
            )
            above = below
            self._row += 1
        state["cells"], state["known"], state["labels"] = (part.copy() for part in above)
        return self._settled((parents, counts, values), (nodes, links), rings[:found])

    def _settled(self, regions: tuple[Any, ...], outlines: tuple[Any, Any], rings: Integers) -> Found:
        """Hand out what is complete, and keep the rest under new numbers."""
        parents, counts, values = (part[: self._labels] for part in regions)
        roots = np.arange(self._labels)
        while True:  # every label to its root
            further = parents[roots]
            if np.array_equal(further, roots):
                break
            roots = further
        sizes = np.bincount(roots, counts, self._labels).astype(np.int64)
        state = self._state
        open_roots = np.unique(roots[state["labels"][state["labels"] >= 0]])
        is_open = np.zeros(self._labels, bool)
        is_open[open_roots] = True
        labels, lengths, corners = self._closed(rings, roots, outlines)
        done = ~is_open[labels]
        keep = np.repeat(~done, lengths)
        complete = np.flatnonzero((roots == np.arange(self._labels)) & ~is_open & (sizes > 0))
        number = np.full(self._labels, -1, np.int64)
        number[complete] = np.arange(complete.size)
        found = Found(
            values[complete], sizes[complete], number[labels[done]],
            np.concatenate([[0], np.cumsum(lengths[done])]), corners[~keep],
        )  # fmt: skip
        renamed = np.full(self._labels, -1, np.int64)
        renamed[open_roots] = np.arange(open_roots.size)
        state["waiting"] = [(renamed[labels[~done]], lengths[~done], corners[keep])]
        held = state["labels"] >= 0
        state["labels"][held] = renamed[roots[state["labels"][held]]]
        state["parents"], state["counts"] = np.arange(open_roots.size), sizes[open_roots]
        state["values"], self._labels = values[open_roots], open_roots.size
        self._compact(outlines)
        return found

    def _closed(
        self, rings: Integers, roots: Integers, outlines: tuple[Any, Any]
    ) -> tuple[Integers, Integers, Integers]:
        """Roots, lengths and corners of all closed outlines, those that waited among them."""
        nodes, links = outlines
        first = np.ascontiguousarray(rings[:, 0])
        lengths = kernel.lengths_of(links, first)
        offsets = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        corners = np.empty((offsets[-1], 3), np.int64)
        kernel.unrolled(nodes, links, first, offsets, corners)
        labels = roots[rings[:, 1]] if len(rings) else np.empty(0, np.int64)
        parts = [
            (roots[old] if old.size else old, sizes, points) for old, sizes, points in self._state["waiting"]
        ]
        parts.append((labels, lengths, corners))
        all_labels, all_lengths, all_corners = (np.concatenate([part[n] for part in parts]) for n in range(3))
        return all_labels.astype(np.int64), all_lengths, all_corners

    def _compact(self, outlines: tuple[Any, Any]) -> None:
        """Keep the corners of open outlines alone."""
        nodes, links = outlines
        state = self._state
        tails = np.concatenate([state["tails"], []]).astype(np.int64)
        starts = np.unique(tails[tails >= 0])
        state["nodes"], state["links"], renamed = kernel.kept(nodes, links, starts)
        for key in ("heads", "tails"):
            held = state[key] >= 0
            state[key][held] = renamed[state[key][held]]
