"""CRSs as services name them, and the order in which they take coordinates.

Sources: OGC 09-048r5, "Name type specification - definitions", and OGC 06-042, section 6.7.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, same
from zembrel.geodesy.registry import by_code, parse_crs

_EPSG = re.compile(
    r"(?:urn:(?:x-)?ogc:def:crs:EPSG:[\d.]*:|https?://www\.opengis\.net/def/crs/EPSG/[\d.]+/|EPSG:)(\d+)"
)
_CRS84 = re.compile(r".*\b(?:CRS84|CRS:84)$", re.IGNORECASE)


def crs_named(name: str) -> tuple[CRS, bool] | None:
    """The CRS of a name, and whether y comes first by its registered axes; None for an unknown one."""
    if _CRS84.match(name):
        return by_code(4326), False
    found = _EPSG.fullmatch(name.strip().strip("[]"))
    if found is None:
        return None
    try:
        crs = parse_crs(f"EPSG:{found[1]}")
    except InputError:
        return None
    return crs, y_first(crs)


def y_first(crs: CRS) -> bool:
    """Whether the registry has the northing or latitude of a CRS first."""
    axes = getattr(crs, "axes", ("east", "north"))
    return bool(axes) and axes[0].split()[0] in ("north", "south")


def chosen(offered: Sequence[str], wished: Sequence[CRS | None]) -> tuple[str, CRS, bool] | None:
    """Of the names that are offered the first that is wished for, else the first that is known."""
    known = [(name, *meant) for name in offered if (meant := crs_named(name)) is not None]
    for wish in wished:
        found = next((entry for entry in known if wish is not None and same(entry[1], wish)), None)
        if found is not None:
            return found
    return known[0] if known else None
