"""Methods: how the cells of one frame become those of another."""

from __future__ import annotations

from dataclasses import dataclass

from zembrel.errors import UsageError, nearest_name

NAMES = (
    "nearest", "bilinear", "cubic", "lanczos", "mean", "mode", "min", "max", "median", "sum", "percentile:25",
)  # fmt: skip
NEED = 0.5  # share of a method's weight that must fall on valid cells
_KEEPS_CODES = ("nearest", "mode", "min", "max")
_RANKED = ("mode", "min", "max", "median", "percentile")


@dataclass(frozen=True)
class Method:
    """A method by name; `share` is the rank that a percentile takes, 0 to 1."""

    name: str
    share: float = 0.5

    @property
    def averages(self) -> bool:
        """Whether values come about that no cell had."""
        return self.name not in _KEEPS_CODES

    @property
    def ranked(self) -> bool:
        """Whether it picks from the cells in a footprint by their order or number."""
        return self.name in _RANKED

    @property
    def footprint(self) -> bool:
        """Whether the size of a cell's footprint always counts."""
        return self.ranked or self.name in ("mean", "sum")

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
