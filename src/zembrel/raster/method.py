"""Methods: how the cells of one frame become those of another."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.kernels import radii

NEED = 0.5  # share of a method's weight that must fall on valid cells


class MethodKind(NamedTuple):
    """The properties of a resampling method.

    code: code of its weights in `kernels.weights`, 0 without weights; radius: radius of the weights in cells;
    pick: code in `kernels.radii` for methods that pick a value, else 0; rank: share between the smallest and
    the largest value that is picked; chooses: True if each result is a value of the source; footprint: True
    if the method always covers the footprint of a result cell.
    """

    code: int = 0
    radius: float = 0.5
    pick: int = 0
    rank: float | None = None
    chooses: bool = False
    footprint: bool = False


METHODS = {
    "nearest": MethodKind(chooses=True),
    "bilinear": MethodKind(radii.BILINEAR, 1.0),
    "cubic": MethodKind(radii.CUBIC, 2.0),
    "lanczos": MethodKind(radii.LANCZOS, 3.0),
    "mean": MethodKind(radii.MEAN, footprint=True),
    "mode": MethodKind(pick=radii.MODE, chooses=True, footprint=True),
    "min": MethodKind(pick=radii.RANK, rank=0.0, chooses=True, footprint=True),
    "max": MethodKind(pick=radii.RANK, rank=1.0, chooses=True, footprint=True),
    "median": MethodKind(pick=radii.RANK, rank=0.5, footprint=True),
    "sum": MethodKind(footprint=True),
    "percentile": MethodKind(pick=radii.RANK, footprint=True),
}
NAMES = tuple("percentile:25" if name == "percentile" else name for name in METHODS)  # as typed


@dataclass(frozen=True)
class Method:
    """A method by name; `share` is the rank that a percentile takes, 0 to 1."""

    name: str
    share: float = 0.5

    @property
    def kind(self) -> MethodKind:
        return METHODS[self.name]

    @property
    def weighted(self) -> bool:
        """Whether it weighs the cells around by a kernel."""
        return self.kind.code > 0

    @property
    def averages(self) -> bool:
        """Whether values come about that no cell had."""
        return not self.kind.chooses

    @property
    def ranked(self) -> bool:
        """Whether it picks from the cells in a footprint by their order or number."""
        return self.kind.pick > 0

    @property
    def footprint(self) -> bool:
        """Whether the size of a cell's footprint always counts."""
        return self.kind.footprint

    @property
    def rank(self) -> float:
        """The share of the way from the smallest value to the largest that it picks."""
        return self.share if self.kind.rank is None else self.kind.rank

    def __str__(self) -> str:
        return f"percentile:{100 * self.share:g}" if self.name == "percentile" else self.name


def parse_method(text: str) -> Method:
    """`cubic`, `percentile:25`. Raises UsageError, with the near miss."""
    name, colon, rank = text.lower().partition(":")
    if name == "percentile":
        try:
            number = float(rank) if colon else -1.0
        except ValueError:
            number = -1.0
        if not 0 <= number <= 100:
            raise UsageError(
                f"method {text!r} has no rank",
                "a percentile is the value below which so many per cent lie",
                "write percentile:25",
            )
        return Method(name, number / 100)
    if name not in NAMES or colon:
        raise UsageError(
            f"there is no method {text!r}",
            "it says how cells become other cells",
            nearest_name(name, NAMES),
        )
    return Method(name)
