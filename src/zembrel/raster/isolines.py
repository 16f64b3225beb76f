"""Lines of equal value through a surface, strip by strip: each as soon as it is complete."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.raster.kernels import contour as kernel

Array = npt.NDArray[np.float64]
_SPARE = 8  # rows of points for which there is room at first


class Lines(NamedTuple):
    """Lines of one level: points (n, 2) in columns and rows, where each begins (m + 1,), which are closed."""

    points: Array
    starts: npt.NDArray[np.int64]
    closed: npt.NDArray[np.bool_]


class Isolines:
    """A sweep over the rows of a surface, `columns` wide, for the lines of one level.

    A value stands in the middle of its cell; NaN is nothing, and lines end there. What is open is kept.
    margin: cells that lines keep from middles, as those of areas do.
    """

    def __init__(self, level: float, columns: int, margin: float = 0.0) -> None:
        self.level, self._margin, self._row = level, margin, 0
        self._top = np.full(columns, kernel.NONE, np.int64)
        most = kernel.MOST * columns + 8
        ends = np.zeros((most, 4), np.int64), np.arange(most)
        room = _SPARE * columns
        self._store: tuple[Any, ...] = (
            np.empty((room, 2)),
            np.empty(room, np.int64),
            np.empty(room, np.int64),
            *ends,
        )
        self._tally = np.array([0, 0, most, 0, 0])

    def strip(self, z: Array, glances: tuple[Array, Array]) -> Lines:
        """Take in rows of values (rows, columns), of which the first is the last of the strip before."""
        out, first = self._out(), 0
        while True:
            first = kernel.trace(
                z,
                self.level,
                self._margin,
                first,
                self._row,
                *glances,
                self._top,
                self._store,
                self._tally,
                out,
            )
            if first == len(z) - 1:
                break
            self._grow()
            out = self._out(out)
        self._row += len(z) - 1
        return self._lines(out)

    def finish(self) -> Lines:
        """The lines that reach the last row."""
        out = self._out()
        kernel.finish(self._top, self._store, self._tally, out)
        return self._lines(out)

    def _grow(self) -> None:
        points, after, stack, *ends = self._store
        columns = len(self._top)
        used = self._tally[kernel.POINTS] - self._tally[kernel.FREE]
        if used + kernel.MOST * (columns + 1) <= len(points):
            return
        self._store = (
            *(np.resize(part, (2 * len(part), *part.shape[1:])) for part in (points, after, stack)),
            *ends,
        )

    def _out(self, before: tuple[Any, ...] | None = None) -> tuple[Any, ...]:
        """Room for complete lines, with those that are written already."""
        lines, written = (int(self._tally[n]) for n in (kernel.LINES, kernel.WRITTEN))
        room = 2 * written + len(self._store[0]) + 8 * len(self._top)
        many = 2 * lines + 8 * len(self._top)
        made = np.empty((room, 2)), np.empty(many + 1, np.int64), np.empty(many, np.bool_)
        if before is not None:
            for old, new, count in zip(before, made, (written, lines, lines), strict=True):
                new[:count] = old[:count]
        return made

    def _lines(self, out: tuple[Any, ...]) -> Lines:
        count, written = (int(self._tally[n]) for n in (kernel.LINES, kernel.WRITTEN))
        points, starts, closed = out
        starts[count] = written
        self._tally[[kernel.LINES, kernel.WRITTEN]] = 0
        return Lines(points[:written].copy(), starts[: count + 1].copy(), closed[:count].copy())
