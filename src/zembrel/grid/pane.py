"""Panes: rectangles of cells."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zembrel.errors import InputError


@dataclass(frozen=True, slots=True, order=True)
class Pane:
    """Half-open rectangle of cells: rows [top, bottom), columns [left, right). Never empty."""

    top: int
    left: int
    bottom: int
    right: int

    def __post_init__(self) -> None:
        if self.bottom <= self.top or self.right <= self.left:
            raise InputError(
                f"rows {self.top} to {self.bottom}, columns {self.left} to {self.right} hold no cell",
                "a rectangle of cells needs at least one",
                "check the area and the cell size",
            )

    @property
    def rows(self) -> int:
        return self.bottom - self.top

    @property
    def columns(self) -> int:
        return self.right - self.left

    @property
    def shape(self) -> tuple[int, int]:
        return self.rows, self.columns

    @property
    def size(self) -> int:
        """Number of cells."""
        return self.rows * self.columns

    def moved(self, rows: int, columns: int) -> Pane:
        return Pane(self.top + rows, self.left + columns, self.bottom + rows, self.right + columns)

    def grown(self, cells: int) -> Pane:
        return Pane(self.top - cells, self.left - cells, self.bottom + cells, self.right + cells)

    def meet(self, other: Pane) -> Pane | None:
        """The cells common to both, or None."""
        top, left = max(self.top, other.top), max(self.left, other.left)
        bottom, right = min(self.bottom, other.bottom), min(self.right, other.right)
        return Pane(top, left, bottom, right) if bottom > top and right > left else None

    def join(self, other: Pane) -> Pane:
        """The smallest pane that holds both."""
        return Pane(
            min(self.top, other.top),
            min(self.left, other.left),
            max(self.bottom, other.bottom),
            max(self.right, other.right),
        )

    def holds(self, other: Pane) -> bool:
        return self.meet(other) == other

    def within(self, outer: Pane) -> tuple[slice, slice]:
        """Row and column slices of this pane in an array that holds `outer`."""
        return (
            slice(self.top - outer.top, self.bottom - outer.top),
            slice(self.left - outer.left, self.right - outer.left),
        )

    def blocks(self, rows: int, columns: int) -> Iterator[Pane]:
        """Cut into blocks of `rows` x `columns`, row by row; those at the far edges are smaller."""
        for top in range(self.top, self.bottom, rows):
            for left in range(self.left, self.right, columns):
                yield Pane(top, left, min(top + rows, self.bottom), min(left + columns, self.right))
