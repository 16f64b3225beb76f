"""Map tiles of OGC API - Tiles: a collection's tile set in a tile matrix set that is known.

Source: OGC 20-057, "OGC API - Tiles - Part 1: Core", and OGC 17-083r4, annex D.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from urllib.parse import urljoin

from zembrel.grid.tiling import TILINGS
from zembrel.sources.documents import json_at, links, misses
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tiled import open_source as open_tiles
from zembrel.sources.wish import SourceLayers, Wish
from zembrel.sources.wms import picked

_FORMS = ("image/png", "image/webp", "image/jpeg")


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """The tiles of a collection."""
    collection = collection_of(source, service)
    link = next((one for one in links(collection) if str(one.get("rel", "")).endswith("tilesets-map")), None)
    if link is None:
        raise misses(source.name, f"map tiles of {collection.get('id')}")
    sets = json_at(service.believing(86_400), source.to(urljoin(_base(source), str(link["href"]))))
    for one in sets.get("tilesets", []):
        scheme = str(one.get("tileMatrixSetURI", "")).rpartition("/")[2]
        items = [item for item in one.get("links", []) if item.get("rel") == "item" and item.get("templated")]
        if scheme not in TILINGS or (source.get("tiling") or scheme) != scheme or not items:
            continue
        item = next((item for form in _FORMS for item in items if item.get("type") == form), items[0])
        address = urljoin(_base(source), str(item["href"]))
        for slot, ours in (("tileMatrix", "z"), ("tileRow", "y"), ("tileCol", "x")):
            address = address.replace(f"{{{slot}}}", f"{{{ours}}}")
        levels = [
            int(limit["tileMatrix"])
            for limit in one.get("tileMatrixSetLimits") or []
            if str(limit.get("tileMatrix")).isdigit()
        ]
        said = dict(source.said) | {"address": address, "tiling": scheme, "kind": "xyz"}
        if levels and "zooms" not in said:
            said["zooms"] = f"{min(levels)}-{max(levels)}"
        return open_tiles(replace(source, said=said), service, wish)
    raise misses(source.name, f"a tile set in one of {', '.join(TILINGS)}")


def _base(source: SourceFile) -> str:
    return source.filled(secret=True).rstrip("/") + "/"


def collection_of(source: SourceFile, service: Service) -> dict[str, Any]:
    """The collection that the source names, or the only one. Raises InputError."""
    found = {str(one.get("id")): one for one in _collections(source, service)}
    return picked(source, found, "collection")


def _collections(source: SourceFile, service: Service) -> list[dict[str, Any]]:
    request = source.to(urljoin(_base(source), "collections"))
    found = json_at(service.believing(86_400), request).get("collections")
    return [one for one in found if isinstance(one, dict)] if isinstance(found, list) else []


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """The collections, and what there is of each."""
    return [
        (
            str(one.get("id")),
            str(one.get("title", "")),
            ", ".join(str(link.get("rel", "")).rpartition("/")[2] for link in links(one)),
        )
        for one in _collections(source, service)
    ]
