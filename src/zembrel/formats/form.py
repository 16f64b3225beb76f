"""What a raster format is: where its code is, how it is recognised and what it can hold."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from zembrel.raster.model import TYPES

_LONGEST = 2**31 - 1


class Format(NamedTuple):
    """One format: where its code is, how it is recognised and what it can hold."""

    title: str
    module: str  # imported at first use
    endings: tuple[str, ...]
    specification: str
    magics: tuple[bytes, ...] = ()  # none: its name has to tell
    types: tuple[str, ...] = TYPES
    most_bands: int = 0  # 0: any number
    holds_place: bool = True  # in the file itself; others get a world file and .prj
    holds_crs: bool = True  # beside the place; where not, a .prj tells it
    holds_mask: bool = True
    whitens: bool = False  # whether invalid cells become white
    holds_legend: bool = False
    holds_names: bool = True  # of the classes of a legend
    holds_nodata: bool = True  # the value that stands for invalid cells
    holds_scale: bool = False  # a factor and an offset that make values of stored numbers
    holds_nodes: bool = True  # whether values stand on cells or on nodes
    longest_side: int = _LONGEST
    settings: Mapping[str, str] = {}
    nodata: float | None = None  # the one value for invalid cells, where the format fixes it
    usual_nodata: int | None = None  # for invalid cells, where a result has none of its own
    store: tuple[str, ...] = ()  # files of which a folder holds one, if it is a layer of this format
    header: str = ""  # ending of a text beside it that belongs to the format
    framed: bool = False  # whether the name of a file says its frame
    inexact: tuple[str, ...] = ()  # how values of `compress` begin that change cells a little
