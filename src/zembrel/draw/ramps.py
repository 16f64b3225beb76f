"""Ramps: values to colours. `relief` is ours; the others are Matplotlib's."""

from __future__ import annotations

from typing import Any

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.model import Band

# Shore, meadow, hill, upland, scree, snow: equal steps of CIE lightness from 30 to 96, so that heights read
# alike in any colour vision.
_RELIEF = ("#2b4e3a", "#516e41", "#8a8b4b", "#c5a66c", "#e9c9a5", "#f9f3ec")
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
