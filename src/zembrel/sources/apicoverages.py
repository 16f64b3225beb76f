"""Coverages of OGC API - Coverages, as GeoTIFF of whatever size is wanted.

Source: OGC 19-087, "OGC API - Coverages - Part 1: Core": bbox, bbox-crs, crs, width and height.
"""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import urlencode, urljoin

from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.sources.apitiles import collection_of
from zembrel.sources.apitiles import offers as offers
from zembrel.sources.crsnames import chosen
from zembrel.sources.documents import links, misses
from zembrel.sources.lattice import SIDE, apart, block_side, lattice_for
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wcs import probed
from zembrel.sources.wish import SourceLayer, SourceLayers, Wish
from zembrel.web.asking import Request


@dataclass(frozen=True)
class PartAddresses:
    """Addresses of the blocks of a frame. crs: by its name; y_first: whether y comes first in it."""

    source: SourceFile
    address: str
    crs: str
    y_first: bool
    frame: Frame
    side: tuple[int, int]

    def piece(self, row: int, column: int) -> Request:
        """The part of a block."""
        down, across = self.side
        top, left = row * down, column * across
        west, south, east, north = self.frame.bounds_of(Pane(top, left, top + down, left + across))
        box = (south, west, north, east) if self.y_first else (west, south, east, north)
        said = {
            "bbox": ",".join(repr(value) for value in box), "bbox-crs": self.crs, "crs": self.crs,
            "width": across, "height": down, "f": "image/tiff",
        }  # fmt: skip
        address = f"{self.address}?{urlencode(said, safe=',:/')}"
        return self.source.to(address)


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """A coverage on a frame that suits the wish."""
    collection = collection_of(source, service)
    link = next((one for one in links(collection) if str(one.get("rel", "")).endswith("/coverage")), None)
    if link is None:
        raise misses(source.name, f"a coverage of {collection.get('id')}")
    found = chosen(
        [str(name) for name in collection.get("crs", [])], [wish.frame.crs if wish.frame else None, wish.crs]
    )
    if found is None:
        raise misses(source.name, "a CRS that is known here")
    name, crs, y_first = found
    frame = lattice_for(source, wish, crs)
    address = urljoin(source.filled(secret=True).rstrip("/") + "/", str(link["href"]))
    layers = []
    for part in apart(frame):
        side = block_side(part, SIDE)
        addresses = PartAddresses(source, address, name, y_first, part, side)
        holding = probed(service, source, addresses.piece(0, 0), side)
        raster = RemoteBlocks(service, addresses, holding, part, side)
        layers.append(SourceLayer(f"{source.name}-{collection.get('id')}", raster))
    return SourceLayers(tuple(layers), (f"collection {collection.get('id')}",))
