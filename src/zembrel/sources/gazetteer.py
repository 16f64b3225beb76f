"""Places by name: a service that answers with points, as GeoJSON (RFC 7946)."""

from __future__ import annotations

from typing import NamedTuple
from urllib.parse import quote

from zembrel.errors import InputError, nearest_name
from zembrel.sources.documents import holding_together, json_at
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.web.asking import Request

_START = 3  # letters by which near misses are looked for
_AGE = 2_592_000.0  # seconds for which a place stays where it is


class NamedPlace(NamedTuple):
    """A place: its name, longitude and latitude in degrees."""

    name: str
    x: float
    y: float


def find_place(source: SourceFile, service: Service, name: str) -> NamedPlace:
    """The place of that name. Raises InputError with the near miss, RemoteError."""
    found = places(source, service, name)
    alike = [place for place in found if place.name.lower() == name.lower()]
    if alike:
        return alike[0]
    near = found or places(source, service, name[:_START])
    remedy = nearest_name(name, [place.name for place in near]) if near else "check the name"
    raise InputError(f"there is no place {name!r}", f"{source.name} does not know it", remedy)


def places(source: SourceFile, service: Service, text: str) -> list[NamedPlace]:
    """The places whose name holds a text."""
    held = service if service.age is not None else service.believing(_AGE)
    request = source.request(name=quote(text))
    with holding_together(source.name):
        return _read(source, held, request)


def _read(source: SourceFile, service: Service, request: Request) -> list[NamedPlace]:
    key = str(source.get("name", "name"))
    found = []
    for feature in json_at(service, request).get("features", []):
        try:
            x, y = (float(value) for value in feature["geometry"]["coordinates"][:2])
            found.append(NamedPlace(str(feature["properties"][key]), x, y))
        except (KeyError, TypeError, ValueError):
            continue
    return found


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """Some places."""
    return [(place.name, "", f"{place.x:.5f},{place.y:.5f}") for place in places(source, service, "")[:20]]
