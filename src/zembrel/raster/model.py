"""The model every room works with: bands, blocks and the `Raster` protocol."""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any, NamedTuple, Protocol, runtime_checkable

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend

Cells = npt.NDArray[Any]
Mask = npt.NDArray[np.bool_]
TYPES = (
    "uint8", "int8", "uint16", "int16", "uint32", "int32", "uint64", "int64", "float32", "float64",
)  # fmt: skip
COLOURS = ("red", "green", "blue")
ALPHA = "alpha"  # colour of a last band that says how opaque a cell is


@dataclass(frozen=True)
class Dimension:
    """What a variable is spread over beside rows and columns, such as time or depth.

    attributes: name and value each, as of the CF conventions; None if nothing tells the places along it.
    """

    name: str
    attributes: tuple[tuple[str, Any], ...] | None = None


class SlicePlace(NamedTuple):
    """A place along a dimension: its coordinate, and where its cell begins and ends if that is told."""

    dimension: Dimension
    value: float | int | str
    edges: tuple[float, float] | None = None


@dataclass(frozen=True)
class Slot:
    """Where a band belongs in a variable of more dimensions than rows and columns."""

    variable: str
    places: tuple[SlicePlace, ...]


@dataclass(frozen=True)
class Band:
    """One layer of a raster. `colour` is red, green, blue, grey, alpha or empty; `type` a NumPy name."""

    name: str
    type: str
    nodata: float | int | None = None
    unit: str = ""
    colour: str = ""
    legend: Legend | None = None
    scale: float = 1.0
    offset: float = 0.0
    slot: Slot | None = None

    @property
    def dtype(self) -> np.dtype[Any]:
        return np.dtype(self.type)

    @property
    def categorical(self) -> bool:
        """Whether values are codes, which must never be averaged."""
        return self.legend is not None


@dataclass(frozen=True, slots=True)
class Block:
    """Cells of a pane: (bands, rows, columns), and where they are valid.

    valid: (rows, columns) for all bands alike, (bands, rows, columns) for each, None if all are.
    What stands in an invalid cell means nothing.
    """

    cells: Cells
    valid: Mask | None = None

    def __post_init__(self) -> None:
        shapes = (self.cells.shape, self.cells.shape[1:])
        if self.cells.ndim != 3 or (self.valid is not None and self.valid.shape not in shapes):
            shape = None if self.valid is None else self.valid.shape
            raise ValueError(f"block of shape {self.cells.shape} with validity of shape {shape}")

    def valid_of(self, band: int) -> Mask:
        """Validity of one band, (rows, columns)."""
        if self.valid is None:
            return np.ones(self.cells.shape[1:], bool)
        return self.valid if self.valid.ndim == 2 else self.valid[band]

    @property
    def anywhere(self) -> Mask:
        """Cells valid in at least one band, (rows, columns)."""
        if self.valid is None:
            return np.ones(self.cells.shape[1:], bool)
        return self.valid if self.valid.ndim == 2 else np.logical_or.reduce(self.valid)

    @property
    def values(self) -> Cells:
        """The valid cells of all bands, (n,)."""
        if self.valid is None:
            return self.cells.ravel()
        return self.cells[np.broadcast_to(self.valid, self.cells.shape)]


@runtime_checkable
class Raster(Protocol):
    """A grid of cells that can be asked for any rectangle of itself. Three members, never a fourth."""

    @property
    def frame(self) -> Frame: ...

    @property
    def bands(self) -> tuple[Band, ...]: ...

    def cells(self, pane: Pane) -> Block:
        """Cells of `pane`, which lies inside the frame; the caller may change what it gets."""
        ...


@runtime_checkable
class HasOverviews(Protocol):
    """The ability of some rasters to show themselves coarser without reading all cells."""

    def coarser(self, step: float) -> Raster:
        """The coarsest ready-made version whose cells are at most `step` times as large."""
        ...


@runtime_checkable
class HasRemarks(Protocol):
    """The ability of some rasters to say what their reader assumed, or found odd."""

    @property
    def remarks(self) -> tuple[str, ...]: ...


def nothing(bands: tuple[Band, ...], shape: tuple[int, int]) -> Block:
    """A block of which no cell is valid."""
    return Block(np.zeros((len(bands), *shape), shared_type(bands)), np.zeros(shape, bool))


def shared_type(bands: tuple[Band, ...]) -> np.dtype[Any]:
    """The type that holds the values of all bands without loss where one exists (NumPy's rule)."""
    return np.result_type(*(band.dtype for band in bands))


def is_photo(bands: tuple[Band, ...]) -> bool:
    """Whether the first bands are red, green and blue, by what is told of them or else by their names."""
    return tuple(band.colour or band.name.lower() for band in bands[:3]) == COLOURS


def has_alpha(bands: tuple[Band, ...]) -> bool:
    """Whether the last band says how opaque the others are."""
    return len(bands) > 1 and bands[-1].colour == ALPHA


def pick_bands(bands: tuple[Band, ...], wanted: str) -> tuple[int, ...]:
    """Indices from 0 of a band list: numbers from 1, names, or patterns such as `B*`.

    Raises InputError, with what there is, for a band that is not there.
    """
    picked: list[int] = []
    for word in (part.strip() for part in wanted.split(",")):
        if word.isdigit():
            found = [int(word) - 1] if 1 <= int(word) <= len(bands) else []
        else:
            found = [i for i, band in enumerate(bands) if _fits(band, word.lower())]
        if not found:
            raise InputError(
                f"there is no band {word!r}",
                f"the layer has {len(bands)} band(s)",
                "choose from " + ", ".join(f"{i} {band.name}" for i, band in enumerate(bands, 1)),
            )
        picked += found
    return tuple(picked)


def _fits(band: Band, pattern: str) -> bool:
    """Whether `pattern` is the name of a band, or its place in the variable that it is a slice of."""
    place = band.name.removeprefix(f"{band.slot.variable} ") if band.slot else band.name
    return any(fnmatchcase(name.lower(), pattern) for name in (band.name, place))
