"""Labels of axes: coordinates with thousands or degrees, values with theirs, never an offset."""

from __future__ import annotations

from typing import Any

from zembrel.geodesy.crs import CRS
from zembrel.measure import LENGTHS

INK = "#2b2b2b"
_TICK_ROOM = 92  # pixels that a label on an axis needs


def is_degrees(crs: CRS | None) -> bool:
    """Whether coordinates are angles."""
    return crs is not None and crs.unit.kind == "angle"


def label_ground(axes: Any, crs: CRS | None, width: float, height: float) -> None:
    """Ticks and names of the axes of a map of so many pixels."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    degrees = is_degrees(crs)
    for axis, size, signs in ((axes.xaxis, width, "EW"), (axes.yaxis, height, "NS")):
        axis.set_major_locator(MaxNLocator(max(1, min(6, int(size / _TICK_ROOM))), steps=[1, 2, 5, 10]))
        axis.set_major_formatter(FuncFormatter(_Degrees(axis, signs) if degrees else _Thousands(axis)))
    axes.tick_params(labelsize=9, colors=INK)
    unit = "" if crs is None else f" ({_sign(crs)})"
    names = ("longitude", "latitude") if degrees else ("x", "y") if crs is None else (
        f"easting{unit}", f"northing{unit}")  # fmt: skip
    axes.set_xlabel(names[0], fontsize=9, color=INK)
    axes.set_ylabel(names[1], fontsize=9, color=INK)


def label_values(axis: Any, count: int = 6) -> None:
    """Ticks of an axis of values."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    axis.set_major_locator(MaxNLocator(count, steps=[1, 2, 5, 10]))
    axis.set_major_formatter(FuncFormatter(_Thousands(axis)))


def bare(axes: Any, across: int, up: int) -> None:
    """Axes of values with so many ticks, and lines at the left and below alone."""
    label_values(axes.xaxis, across)
    label_values(axes.yaxis, up)
    axes.tick_params(labelsize=9, colors=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _sign(crs: CRS) -> str:
    known = (sign for sign, size in LENGTHS.items() if abs(float(size) / crs.unit.factor - 1) < 1e-12)
    return next(known, crs.unit.name)


def _digits(axis: Any) -> int:
    """Decimals that tell the ticks of an axis apart."""
    places = axis.get_majorticklocs()
    if len(places) < 2:
        return 0 if all(float(place).is_integer() for place in places) else 6
    step = abs(places[1] - places[0])
    return next((n for n in range(12) if abs(step - round(step, n)) < 1e-6 * step), 12)


class _Thousands:
    def __init__(self, axis: Any) -> None:
        self._axis = axis

    def __call__(self, value: float, _: Any = None) -> str:
        return f"{value:,.{_digits(self._axis)}f}".replace("-0", "0") if value == 0 else (
            f"{value:,.{_digits(self._axis)}f}")  # fmt: skip


class _Degrees:
    def __init__(self, axis: Any, signs: str) -> None:
        self._axis, self._signs = axis, signs

    def __call__(self, value: float, _: Any = None) -> str:
        turned = (value + 180) % 360 - 180 if self._signs == "EW" and not -180 <= value <= 180 else value
        sign = "" if turned == 0 else self._signs[int(turned < 0)]
        return f"{abs(turned):.{_digits(self._axis)}f}°{sign}"
