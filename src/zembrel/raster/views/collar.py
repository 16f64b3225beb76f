"""Collars: borders of one colour around a photo, where nobody said that nothing is there.

A collar is connected to the border and nearly constant. Lossy coding makes it noisy, and frays it along the
photo: there it is wider by up to a block of 8 x 8 cells whose colours only resemble it (ITU-T T.81, JPEG).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.model import Band, Block, Cells, Mask, Raster
from zembrel.raster.views.opacity import colours_of

FRINGE = 2  # cells next to the collar whose colour was mixed with it
_STRIP = 512
_RING = 3  # cells along each border in which colours of a collar are looked for
_MOST_COLOURS = 3
_SAME = 2  # by which a value of a collar's colour may differ without being noise
_NOISE = 8  # by which values of a black or white collar may, as coding with losses makes them
_BIN = 16  # values that are one colour at first
_RESEMBLES = 24  # by which noise, or a fraying edge, may differ
_LEAST = 0.02  # share of border cells from which a colour may be a collar's
_LIKELY = 0.2  # share of close cells from which one colour stands for them
_CONSTANT = 0.5  # share of what resembles a colour that has to be of just that colour
_FRAYED = 0.2  # share of runs with something like the collar behind them from which losses frayed it
_VALLEY, _EMPTY = 6, 0.005  # values without cells that end the noise, and how few are none
_BLOCK = 8  # cells by which coding with losses frays an edge
_RUN = 3  # bright cells in a row that end a run: single ones are noise
Ends = npt.NDArray[np.int64]


class Shade(NamedTuple):
    """What counts as collar: cells within `tolerance` of one of the colours, (k, bands)."""

    colours: Cells
    tolerance: int

    def apart(self, cells: Cells) -> Cells:
        """How far cells (bands, ...) are from the nearest of the colours, in the band that differs most."""
        away = [np.abs(cells.astype(np.int32) - colour.reshape((-1,) + (1,) * (cells.ndim - 1))).max(axis=0)
                for colour in self.colours.astype(np.int32)]  # fmt: skip
        least: Cells = np.min(away, axis=0)
        return least


def shade_of(source: Raster, tolerance: int | None = None) -> Shade | None:
    """The shade of the collar of a photo of whole numbers, found along its borders; None without one.

    tolerance: by how much values of a collar may differ from its colour, if somebody says.
    """
    ring = _ring(colours_of(source))
    count, rest = ring.shape[1], ring
    found: list[Cells] = []
    while rest.shape[1] and len(found) < _MOST_COLOURS:
        colour = _densest(rest)
        away = np.abs(rest.astype(np.int32) - colour[:, None]).max(axis=0)
        same = int((away <= (_noise_of(colour) if tolerance is None else max(tolerance, _SAME))).sum())
        if same < _LEAST * count:
            break
        if same >= _CONSTANT * int((away <= max(_RESEMBLES, tolerance or 0)).sum()):
            found.append(colour)
        rest = rest[:, away > _RESEMBLES]
    if not found:
        return None
    shade = Shade(np.array(found), 0)
    if tolerance is not None:
        return shade._replace(tolerance=tolerance)
    counts = np.bincount(shade.apart(ring), minlength=_RESEMBLES + _VALLEY + 1).cumsum()
    fitting = (t for t in range(_SAME, _RESEMBLES) if counts[t + _VALLEY] - counts[t] <= _EMPTY * counts[t])
    return shade._replace(tolerance=next(fitting, _RESEMBLES))


def _densest(cells: Cells) -> Cells:
    """The colour, (bands,), that most cells (bands, n) are close to: a frequent one, or their middle."""
    _, which, counts = np.unique(cells // _BIN, axis=1, return_inverse=True, return_counts=True)
    near = cells[:, np.ravel(which) == counts.argmax()]
    around = np.abs(cells.astype(np.int32) - np.median(near, axis=1)[:, None]).max(axis=0) <= _BIN
    close = cells[:, around]
    colours, counts = np.unique(close, axis=1, return_counts=True)
    if counts.max() >= _LIKELY * close.shape[1]:
        return np.asarray(colours[:, counts.argmax()])
    return np.median(close, axis=1).astype(cells.dtype)


def _noise_of(colour: Cells) -> int:
    """By how much values of a collar may differ: black and white are hardly colours of a photo's edge."""
    top = np.iinfo(colour.dtype).max
    pure = (colour <= _NOISE).all() or (colour >= top - _NOISE).all()
    return _NOISE if pure else _SAME


def _ring(source: Raster) -> Cells:
    """The valid cells along the borders, (bands, n)."""
    pane = source.frame.pane
    deep = min(_RING, pane.rows), min(_RING, pane.columns)
    panes = (
        Pane(0, 0, deep[0], pane.right), Pane(pane.bottom - deep[0], 0, pane.bottom, pane.right),
        Pane(0, 0, pane.bottom, deep[1]), Pane(0, pane.right - deep[1], pane.bottom, pane.right),
    )  # fmt: skip
    blocks = [source.cells(border) for border in panes]
    return np.concatenate([block.cells[:, block.anywhere] for block in blocks], axis=1)


@dataclass(frozen=True)
class Collar:
    """Where the runs of a collar end that begin at each border.

    left, right: (rows,) first and one past the last kept column; top, bottom: (columns,) likewise; left_over:
    cells that go on resembling the collar behind those ends.
    """

    left: Ends
    right: Ends
    top: Ends
    bottom: Ends
    left_over: int = 0

    @cached_property
    def removed(self) -> int:
        """Cells of the collar and its fringe."""
        height, width = self.left.size, self.top.size
        strips = Pane(0, 0, height, width).blocks(_STRIP, width)
        return sum(int((~self.kept(pane)).sum()) for pane in strips)

    def kept(self, pane: Pane) -> Mask:
        """Cells of `pane` outside the collar and its fringe."""
        rows, cols = np.arange(pane.top, pane.bottom), np.arange(pane.left, pane.right)
        across = (cols >= self.left[rows, None] + self._rim(self.left[rows], 0)[:, None]) & (
            cols < self.right[rows, None] - self._rim(self.right[rows], self.top.size)[:, None]
        )
        down = (rows[:, None] >= self.top[cols] + self._rim(self.top[cols], 0)) & (
            rows[:, None] < self.bottom[cols] - self._rim(self.bottom[cols], self.left.size)
        )
        kept: Mask = across & down
        return kept

    @staticmethod
    def _rim(end: Ends, border: int) -> Ends:
        """FRINGE where a run was found, 0 where the photo reaches the border."""
        return np.where(end == border, 0, FRINGE)


@dataclass(frozen=True, eq=False)
class CollarLook:
    """The task of looking for a collar of a shade in a strip of `source`; invalid cells count as collar."""

    source: Raster
    shade: Shade

    @property
    def strips(self) -> list[Pane]:
        return list(self.source.frame.pane.blocks(_STRIP, self.source.frame.columns))

    def __call__(self, pane: Pane) -> tuple[Ends, Ends, Ends]:
        """Ends of runs: plain, as losses frayed them, and of all that resembles the collar."""
        seen = pane.grown(_RUN - 1 + _BLOCK).meet(self.source.frame.pane)
        assert seen is not None
        block = colours_of(self.source).cells(seen)
        apart = np.where(block.anywhere, self.shade.apart(block.cells), 0)
        like = apart <= max(self.shade.tolerance, _RESEMBLES)
        bright = apart > self.shade.tolerance
        size = self.source.frame.rows, self.source.frame.columns
        return (
            _runs(size, pane, seen, bright, like, 0),
            _runs(size, pane, seen, bright, like, _BLOCK),
            _runs(size, pane, seen, ~like, like, 0),
        )


def find_collar(source: Raster, shade: Shade, over: Any = map) -> Collar:
    """The collar of `source`, in one pass over its cells.

    over: what applies a task to panes in their order, as `map` does.
    """
    look = CollarLook(source, shade)
    return collar_of(source.frame, over(look, look.strips))


def collar_of(frame: Frame, looks: Iterable[tuple[Ends, Ends, Ends]]) -> Collar:
    """The collar of a photo, of what was seen of its strips."""
    plain, frayed, wide = (_Runs.none(frame.rows, frame.columns) for _ in range(3))
    top = 0
    for parts in looks:
        rows = (parts[0].size - 2 * frame.columns) // 2
        for runs, part in zip((plain, frayed, wide), parts, strict=True):
            runs.add(part, slice(top, top + rows))
        top += rows
    begun = (plain.left > 0) & (plain.left < plain.right)
    kept = frayed if begun.any() and (frayed.left != plain.left)[begun].mean() > _FRAYED else plain
    over = (wide.left - kept.left - FRINGE).clip(0) + (kept.right - wide.right - FRINGE).clip(0)
    counts = begun & (wide.left < wide.right)
    return Collar(kept.left, kept.right, kept.top, kept.bottom, int(over[counts].sum()))


def _runs(size: tuple[int, int], pane: Pane, seen: Pane, bright: Mask, like: Mask, frays: int) -> Ends:
    """The ends of runs from the left, the right, the top and the bottom, one behind the other, that end in
    `pane`. bright, like: (rows, columns) of `seen`, which is `pane` and some rows more."""
    height, width = size
    lead, tail = pane.top - seen.top, seen.bottom - pane.bottom
    own = slice(lead, lead + pane.rows)
    left = _ends(bright[own], like[own], frays, 0, width)
    right = _ends(bright[own, ::-1], like[own, ::-1], frays, 0, width)
    top = _ends(bright.T, like.T, frays, lead, lead + pane.rows)
    bottom = _ends(bright[::-1].T, like[::-1].T, frays, tail, tail + pane.rows)
    return np.concatenate([
        np.where(left[0], left[1], width), np.where(right[0], width - right[1], 0),
        np.where(top[0], seen.top + top[1], height), np.where(bottom[0], seen.bottom - bottom[1], 0),
    ])  # fmt: skip


@dataclass
class _Runs:
    """The ends of runs that begin at each border."""

    left: Ends
    right: Ends
    top: Ends
    bottom: Ends

    @classmethod
    def none(cls, height: int, width: int) -> _Runs:
        return cls(
            np.full(height, width),
            np.zeros(height, np.int64),
            np.full(width, height),
            np.zeros(width, np.int64),
        )

    def add(self, part: Ends, rows: slice) -> None:
        """What was found in a strip of rows."""
        count, width = rows.stop - rows.start, self.top.size
        left, right, top, bottom = np.split(part, np.cumsum([count, count, width]))
        self.left[rows], self.right[rows] = left, right
        self.top, self.bottom = np.minimum(self.top, top), np.maximum(self.bottom, bottom)


def _ends(bright: Mask, like: Mask, frays: int, start: int, stop: int) -> tuple[Mask, Ends]:
    """Lines (n, length) in which a run ends between `start` and `stop`, and where, its fray included."""
    begins = _first_of_run(bright)[:, start:stop]
    ends = start + begins.argmax(axis=1)
    if frays:
        length = bright.shape[1]
        window = np.minimum(ends[:, None] + np.arange(frays), length - 1)
        held = np.take_along_axis(like, window, axis=1) & (ends[:, None] > 0)
        ends = np.where(held.any(axis=1), ends + frays - held[:, ::-1].argmax(axis=1), ends)
        ends = np.minimum(ends, length)
    lit: Mask = np.asarray(begins.any(axis=1))
    return lit, ends


def _first_of_run(bright: Mask) -> Mask:
    """Where _RUN bright cells in a row begin, along the last axis; short rows end runs by any bright cell."""
    if bright.shape[-1] < _RUN:
        return bright
    begins = np.zeros_like(bright)
    most = bright.shape[-1] - _RUN + 1
    begins[..., :most] = np.logical_and.reduce([bright[..., n : n + most] for n in range(_RUN)])
    return begins


@dataclass(frozen=True)
class Trimmed:
    """`source` without its collar."""

    source: Raster
    collar: Collar

    @property
    def frame(self) -> Frame:
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        return self.source.bands

    def cells(self, pane: Pane) -> Block:
        block = self.source.cells(pane)
        kept = self.collar.kept(pane)
        return Block(block.cells, kept if block.valid is None else block.valid & kept)
