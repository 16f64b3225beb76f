"""Files on a shelf: catalogues that name them, and the files themselves, whole or in ranges.

Sources: STAC 1.1 (items, catalogues) and STAC API 1.0 (search); RFC 9110, section 14 (ranges).
"""

from __future__ import annotations

import hashlib
import json
import math
import re
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.standins.services.scene import Box

_MOST = 1000  # items of a page
_SECRET = "marrowick"


class ShelfItem(NamedTuple):
    """A file: where it is, which asset and collection it is, its outline in degrees, its day and clouds."""

    path: Path
    collection: str
    bounds: Box
    day: str | None = None
    cloud: float | None = None

    @property
    def name(self) -> str:
        return self.path.name

    @property
    def ring(self) -> list[list[float]]:
        west, south, east, north = self.bounds
        return [[west, south], [east, south], [east, north], [west, north], [west, south]]


def signed(address: str, seconds: float) -> str:
    """An address that holds for so long; as it is for ever if seconds are 0."""
    if not seconds:
        return address
    until = time.time() + seconds
    return f"{address}?until={until:.3f}&sign={_sign(address.rpartition('/')[2], f'{until:.3f}')}"


def _sign(name: str, until: str) -> str:
    return hashlib.sha256(f"{name} {until} {_SECRET}".encode()).hexdigest()[:16]


def holds_still(name: str, said: Mapping[str, str]) -> bool:
    """Whether a signed address still holds."""
    until = said.get("until", "0")
    return said.get("sign") == _sign(name, until) and time.time() < float(until)


def stac_item(item: ShelfItem, address: str, seconds: float) -> dict[str, Any]:
    """A file as an item, its address signed for so long."""
    properties: dict[str, Any] = {"datetime": f"{item.day or '2024-01-01'}T11:00:00Z"}
    if item.cloud is not None:
        properties["eo:cloud_cover"] = item.cloud
    stem = item.path.stem
    links = [{"rel": "self", "href": f"{address}/stac/items/{stem}.json", "type": "application/geo+json"}]
    kind = "image/tiff; application=geotiff; profile=cloud-optimized"
    assets = {
        "visual": {"href": signed(f"{address}/files/{item.name}", seconds), "type": kind, "roles": ["data"]}
    }
    return {
        "type": "Feature", "stac_version": "1.1.0", "id": stem, "collection": item.collection,
        "geometry": {"type": "Polygon", "coordinates": [item.ring]}, "bbox": list(item.bounds),
        "properties": properties, "links": links, "assets": assets,
    }  # fmt: skip


def stac_landing(address: str) -> dict[str, Any]:
    """The root of the API."""
    links = [
        {"rel": "self", "href": f"{address}/stac", "type": "application/json"},
        {"rel": "search", "href": f"{address}/stac/search", "type": "application/geo+json", "method": "GET"},
    ]
    conforms = ["https://api.stacspec.org/v1.0.0/core", "https://api.stacspec.org/v1.0.0/item-search"]
    return {"type": "Catalog", "stac_version": "1.1.0", "id": "marrowick", "description": "Isle of Marrowick",
            "conformsTo": conforms, "links": links}  # fmt: skip


def stac_catalogue(items: Sequence[ShelfItem], address: str) -> dict[str, Any]:
    """A static catalogue: it names its items by relative links."""
    links = [
        {"rel": "item", "href": f"items/{item.path.stem}.json", "type": "application/geo+json"}
        for item in items
    ]
    root = {"rel": "root", "href": f"{address}/stac/catalog.json", "type": "application/json"}
    return {"type": "Catalog", "stac_version": "1.1.0", "id": "marrowick-static", "description": "as files",
            "links": [root, *links]}  # fmt: skip


def stac_search(
    items: Sequence[ShelfItem], said: Mapping[str, str], address: str, seconds: float
) -> dict[str, Any]:
    """Items by bbox, datetime and collections, some at a time, with a link to the next ones."""
    box = _box(said.get("bbox"))
    found = [item for item in items if _meets(item, box) and _dated(item, said.get("datetime"))]
    wanted = said.get("collections")
    found = [item for item in found if not wanted or item.collection in wanted.split(",")]
    limit, first = int(said.get("limit", "10")), int(said.get("token", "0"))
    if not (0 < limit <= _MOST and first >= 0):
        raise ValueError(f"limit has 1 to {_MOST}, and token 0 or more")
    page = found[first : first + limit]
    links = []
    if first + limit < len(found):
        query = "&".join(f"{key}={value}" for key, value in {**said, "token": str(first + limit)}.items())
        links.append(
            {"rel": "next", "href": f"{address}/stac/search?{query}", "type": "application/geo+json"}
        )
    features = [stac_item(item, address, seconds) for item in page]
    return {"type": "FeatureCollection", "features": features, "links": links, "numberMatched": len(found)}


def _box(text: str | None) -> Box | None:
    """West, south, east and north. Raises ValueError."""
    if not text:
        return None
    west, south, east, north = (float(part) for part in text.split(","))
    if not all(map(math.isfinite, (west, south, east, north))):
        raise ValueError("bbox has four numbers")
    return west, south, east, north


def _meets(item: ShelfItem, box: Box | None) -> bool:
    if box is None:
        return True
    west, south, east, north = box
    w, s, e, n = item.bounds
    turns = [(west, east)] if west <= east else [(west, 180.0), (-180.0, east)]
    return s < north and n > south and any(w < right and e > left for left, right in turns)


def _dated(item: ShelfItem, when: str | None) -> bool:
    if not when or item.day is None:
        return True
    first, slash, last = when.partition("/")
    days = [
        part[:10] if part not in ("", "..") else None for part in ((first, last) if slash else (first, first))
    ]
    return (days[0] is None or item.day >= days[0]) and (days[1] is None or item.day <= days[1])


def block_index(items: Sequence[ShelfItem], address: str) -> bytes:
    """An index of blocks as features, each with a link to its file."""
    features = [
        {"type": "Feature", "geometry": {"type": "Polygon", "coordinates": [item.ring]},
         "properties": {"name": item.path.stem, "url": f"{address}/files/{item.name}",
                        "bytes": item.path.stat().st_size}}
        for item in items
    ]  # fmt: skip
    return json.dumps({"type": "FeatureCollection", "features": features}).encode()


def places_found(places: Sequence[tuple[str, float, float]], text: str) -> bytes:
    """Places whose name holds a text, as points."""
    features = [
        {
            "type": "Feature",
            "geometry": {"type": "Point", "coordinates": [lon, lat]},
            "properties": {"name": name},
        }
        for name, lon, lat in places
        if text.lower() in name.lower()
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}).encode()


def part_of(path: Path, asked: str | None) -> tuple[int, dict[str, str], bytes]:
    """Status, headers and bytes of a file, or of the range that is asked for."""
    size, mark = path.stat().st_size, f'"{path.stat().st_mtime_ns:x}"'
    headers = {"ETag": mark, "Accept-Ranges": "bytes"}
    found = re.fullmatch(r"bytes=(\d+)-(\d*)", asked or "")
    if found is None:
        return 200, headers, path.read_bytes()
    first, last = int(found[1]), min(int(found[2] or size - 1), size - 1)
    if first > last:
        return 416, headers | {"Content-Range": f"bytes */{size}"}, b""
    with path.open("rb") as file:
        file.seek(first)
        data = file.read(last - first + 1)
    return 206, headers | {"Content-Range": f"bytes {first}-{last}/{size}"}, data
