"""Rasters for Python: nothing is read before it is sliced, drawn or written."""

from __future__ import annotations

import html
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.draw.colouring import Look, painted
from zembrel.draw.page import as_address, rows
from zembrel.engine.limits import Limits
from zembrel.errors import InputError, UsageError
from zembrel.geodesy.crs import label
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.opened.xarrays import as_data_array
from zembrel.raster.model import Band, Block, Raster, pick_bands, shared_type
from zembrel.raster.views.bands import Relabelled, select_bands
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.phrases import show_bounds, show_cell

Places = range | list[int]
_STRIP = 4_000_000  # cells that are read at a time
_PIXELS = 420  # of a picture in a notebook


@dataclass(frozen=True, eq=False)
class LazyRaster:
    """A raster that is computed when it is asked for.

    `r[band, rows, columns]` is a masked array of NumPy, void cells masked; bands are numbers from 0 or names,
    rows and columns numbers or slices from the upper left. `numpy.asarray(r)` has NaN in void cells; of
    classes it has their nodata code. Where a file stores numbers with a scale and an offset, these are the
    values that they stand for; `r.stored` has the numbers. Any verb takes it as an input.
    """

    source: Raster

    @cached_property
    def _values(self) -> Raster:
        return unscaled(self.source)

    @property
    def stored(self) -> LazyRaster:
        """The same with the numbers that are stored, without their scale and offset."""
        plain = tuple(replace(band, scale=1.0, offset=0.0) for band in self.source.bands)
        return LazyRaster(Relabelled(self.source, plain))

    @property
    def frame(self) -> Frame:
        """CRS, lattice, columns and rows."""
        return self.source.frame

    @property
    def bands(self) -> tuple[Band, ...]:
        """Names, types, units and legends of the bands."""
        return self._values.bands

    def cells(self, pane: Pane) -> Block:
        """Cells of a pane, (bands, rows, columns), and where they are valid."""
        return self._values.cells(pane)

    @property
    def shape(self) -> tuple[int, int, int]:
        """Bands, rows and columns."""
        return len(self.bands), self.frame.rows, self.frame.columns

    @property
    def dtype(self) -> np.dtype[Any]:
        """The type that holds the values of all bands."""
        return shared_type(self.bands)

    def __getitem__(self, key: Any) -> Any:
        """Cells as a masked array. Raises InputError for a band that is none, IndexError past the edge."""
        asked = _parts(key if isinstance(key, tuple) else (key,))
        numbers = self._bands_of(asked[0])
        down, across = _span(asked[1], self.frame.rows), _span(asked[2], self.frame.columns)
        cells = np.zeros((len(numbers), len(down), len(across)), self.dtype)
        void = np.zeros(cells.shape, bool)
        if cells.size:
            view = select_bands(self._values, tuple(numbers))
            for first, last in _runs(len(down), max(across) + 1 - min(across)):
                self._fill(view, down[first:last], across, (cells[:, first:last], void[:, first:last]))
        single = tuple(0 if isinstance(one, int | np.integer | str) else slice(None) for one in asked)
        return np.ma.array(cells, mask=void)[single]

    @staticmethod
    def _fill(view: Raster, down: Places, across: Places, into: tuple[Any, Any]) -> None:
        """Put cells at rows and columns, and where they are void, into two arrays."""
        top, left = min(down), min(across)
        block = view.cells(Pane(top, left, max(down) + 1, max(across) + 1))
        at = np.ix_(
            range(len(block.cells)), [row - top for row in down], [column - left for column in across]
        )
        into[0][...] = block.cells[at]
        if block.valid is not None:
            into[1][...] = ~np.broadcast_to(block.valid, block.cells.shape)[at]

    def _bands_of(self, picked: Any) -> list[int]:
        if isinstance(picked, str):
            return list(pick_bands(self.bands, picked))
        if isinstance(picked, list | tuple):
            return [number for one in picked for number in self._bands_of(one)]
        return list(_span(picked, len(self.bands)))

    def __array__(self, dtype: Any = None, copy: Any = None) -> npt.NDArray[Any]:
        """All cells, (bands, rows, columns). Raises UsageError for void cells that no value can stand for."""
        wanted = None if dtype is None else np.dtype(dtype)
        return np.asarray(self.filled(whole=wanted is not None and wanted.kind in "iu")[0], wanted)

    def filled(self, *, whole: bool = False) -> tuple[npt.NDArray[Any], Any]:
        """All cells, and what stands in void ones: NaN, of classes their nodata code; None if none is void.

        whole: whether the nodata value may stand in those of values too. Raises UsageError where nothing can.
        """
        found = self[:]
        cells = np.ma.getdata(found)
        if not np.ma.is_masked(found):
            return cells, None
        blank: Any = np.nan
        if self.dtype.kind != "f" and (whole or self.bands[0].categorical):
            blank = self.bands[0].nodata
        elif self.dtype.kind != "f":
            cells = cells.astype(np.float32 if self.dtype.itemsize <= 2 else np.float64)
        if blank is None:
            what = "some cells are void, and no value stands for them"
            raise UsageError(what, f"{self.dtype.name} has no NaN", "slice it: r[:] is a masked array")
        return np.where(np.ma.getmaskarray(found), np.asarray(blank, cells.dtype), cells), blank

    def to_numpy(self) -> npt.NDArray[Any]:
        """The same as `numpy.asarray`."""
        return np.asarray(self)

    def to_xarray(self) -> Any:
        """A `DataArray` (band, y, x) with coordinates, CRS and units by the CF conventions.

        Raises UsageError where xarray is not installed.
        """
        return as_data_array(self)

    def __repr__(self) -> str:
        facts = "   ".join(text for _, text in self._facts())
        return f"<Raster {facts}>"

    def _facts(self) -> Iterator[tuple[str, str]]:
        frame = self.frame
        yield "CRS", label(frame.crs) if frame.crs is not None else "none"
        yield "cells", f"{frame.columns:,} columns x {frame.rows:,} rows of {show_cell(frame)}"
        yield "extent", show_bounds(frame)
        names = ", ".join(band.name for band in self.bands[:8]) + " ..." * (len(self.bands) > 8)
        yield "bands", f"{len(self.bands)} {self.dtype.name}: {names}"

    def _picture(self) -> npt.NDArray[np.uint8]:
        return painted(self.source, Look(), Limits(), _PIXELS).image

    def _repr_html_(self) -> str:
        try:
            picture = f"<img alt='' src='{as_address(self._picture())}' style='max-width:{_PIXELS}px'>"
        except InputError as exc:
            picture = html.escape(exc.what)
        facts = rows(list(self._facts()))
        beside = "display:flex;gap:16px;align-items:flex-start"
        return f"<div style='{beside}'><div>{picture}</div><table>{facts}</table></div>"


def _span(one: Any, count: int) -> Places:
    """The places that a number, a slice or a list means. Raises IndexError past the edge."""
    if isinstance(one, slice):
        return range(*one.indices(count))
    if isinstance(one, list | tuple | np.ndarray):
        return [place for inner in one for place in _span(inner, count)]
    number = int(one) + (count if one < 0 else 0)
    if not 0 <= number < count:
        raise IndexError(f"{one} is past the edge: there are {count}")
    return range(number, number + 1)


def _parts(key: tuple[Any, ...]) -> tuple[Any, Any, Any]:
    """What a key says of bands, rows and columns; what is left out is all. Raises IndexError for more."""
    if any(one is ... for one in key):
        at = next(n for n, one in enumerate(key) if one is ...)
        key = (*key[:at], *[slice(None)] * (4 - len(key)), *key[at + 1 :])
    if len(key) > 3:
        raise IndexError(f"{len(key)} indices for bands, rows and columns")
    whole = [*key, *[slice(None)] * (3 - len(key))]
    return whole[0], whole[1], whole[2]


def _runs(count: int, columns: int) -> Iterator[tuple[int, int]]:
    """Rows in runs of so many cells as are read at a time."""
    step = max(1, _STRIP // max(columns, 1))
    for first in range(0, count, step):
        yield first, min(first + step, count)


def plain(raster: Raster) -> Raster:
    """What a verb works on: the raster without its coat."""
    return raster.source if isinstance(raster, LazyRaster) else raster
