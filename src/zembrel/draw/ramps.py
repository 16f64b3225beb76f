"""Ramps: values to colours. `relief` is ours; the others are Matplotlib's."""

from __future__ import annotations

from typing import Any

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.model import Band

# Share of the range -> colour: shore, meadow, hill, upland, scree, snow.
_RELIEF = (
    (0.0, "#7f9f78"), (0.12, "#a3b67c"), (0.32, "#d6cf97"),
    (0.55, "#c39f6e"), (0.78, "#9b7560"), (1.0, "#f3efea"),
)  # fmt: skip
_NO_HEIGHTS = ("roughness", "ruggedness", "position")  # lengths all the same


def default_ramp(band: Band) -> str:
    """`relief` for heights in metres or feet, greys for light, a ramp that closes for directions, else one of
    even steps."""
    if band.colour == "grey" or band.name.startswith("hillshade"):
        return "gray"
    if band.name == "aspect":
        return "twilight"
    heights = band.unit in ("m", "ft", "usft") and band.name not in _NO_HEIGHTS
    return "relief" if heights or "elevation" in band.name else "viridis"


def check_ramp(name: str | None) -> None:
    """Raise UsageError, with the near miss, for a name that is no ramp; None is any."""
    from matplotlib import colormaps

    if name is not None and name != "relief" and name not in colormaps:
        known = ["relief", *colormaps]
        raise UsageError(
            f"there is no ramp {name!r}",
            "colours come from a named ramp",
            nearest_name(name, known).partition("known are")[0] or "write for example --ramp relief",
        )


def colour_map(name: str) -> Any:
    """The Matplotlib colour map of a ramp."""
    from matplotlib import colormaps
    from matplotlib.colors import LinearSegmentedColormap

    if name == "relief":
        return LinearSegmentedColormap.from_list(name, list(_RELIEF))
    return colormaps[name]
