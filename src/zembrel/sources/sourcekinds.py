"""The kinds of sources: a record for each, with the module that does its work."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

RASTERS = "rasters"
_ROW = frozenset({"y", "-y"})  # placeholders of a row


class SourceKind(NamedTuple):
    """A kind of source: its title, and the module of `zembrel.sources` that implements it.

    gives: RASTERS, or other contents as text; offers: True if the module lists the layers of the service;
    slots: placeholders that the address must contain; rows: True if it must contain a row placeholder as
    well; local: True if the address may be a path.
    """

    title: str
    module: str
    gives: str = RASTERS
    offers: bool = True
    slots: frozenset[str] = frozenset()
    rows: bool = False
    local: bool = False


_TILE = frozenset({"z", "x"})
KINDS: Mapping[str, SourceKind] = {
    "xyz": SourceKind(
        "tiles by zoom, column and row, counted from the north", "tiled", offers=False, slots=_TILE, rows=True
    ),
    "tms": SourceKind(
        "tiles by zoom, column and row, counted from the south", "tiled", offers=False, slots=_TILE, rows=True
    ),
    "wmts": SourceKind("tiles of an OGC WMTS 1.0 service", "wmts"),
    "wms": SourceKind("pictures of an OGC WMS 1.1.1 or 1.3.0 service", "wms"),
    "wcs": SourceKind("coverages of an OGC WCS 2.0 service", "wcs"),
    "tiles": SourceKind("tiles of OGC API - Tiles", "apitiles"),
    "coverages": SourceKind("coverages of OGC API - Coverages", "apicoverages"),
    "stac": SourceKind("items of a STAC API or of a static catalogue", "stac"),
    "blocks": SourceKind(
        "files that a feature index names, each with its outline", "blocks", "files of points", local=True
    ),
    "file": SourceKind("a file, a folder or an address as it is", "files", offers=False, local=True),
    "gazetteer": SourceKind("places by name", "gazetteer", "places", slots=frozenset({"name"})),
}


def lacking(kind: SourceKind, found: frozenset[str]) -> list[str]:
    """Return the placeholders that are missing in an address that contains `found`."""
    return sorted(kind.slots - found) + (["y"] if kind.rows and not found & _ROW else [])
