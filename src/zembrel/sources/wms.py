"""Maps of OGC WMS 1.1.1 and 1.3.0 services, as cells of whatever size is wanted.

Sources: OGC 01-068r3 and OGC 06-042. In 1.3.0 coordinates come in the order of the CRS's registered axes, in
1.1.1 x comes first.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TypeVar
from urllib.parse import urlencode
from xml.etree.ElementTree import Element

from zembrel.errors import InputError, nearest_name
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import parse_crs
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.sources.crsnames import chosen
from zembrel.sources.documents import misses, text, texts, xml_at
from zembrel.sources.lattice import SIDE, apart, block_side, lattice_for
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tiled import holding_of
from zembrel.sources.wish import SourceLayer, SourceLayers, Wish
from zembrel.web.addresses import without_login
from zembrel.web.asking import Request

T = TypeVar("T")
_ROOTS = ("WMS_Capabilities", "WMT_MS_Capabilities")
_FORMATS = ("image/png", "image/webp", "image/jpeg", "image/gif")


@dataclass(frozen=True)
class MapLayer:
    """A layer as the capabilities have it, with what it inherits: CRSs, styles, bounds in degrees."""

    name: str
    title: str
    crss: tuple[str, ...]
    styles: tuple[str, ...]
    bounds: tuple[float, float, float, float] | None


@dataclass(frozen=True)
class MapAddresses:
    """Addresses of maps: blocks of a frame. said: what all have in common."""

    source: SourceFile
    frame: Frame
    side: tuple[int, int]
    said: tuple[tuple[str, str], ...]
    y_first: bool

    def piece(self, row: int, column: int) -> Request:
        """The map of a block."""
        down, across = self.side
        top, left = row * down, column * across
        west, south, east, north = self.frame.bounds_of(Pane(top, left, top + down, left + across))
        box = (south, west, north, east) if self.y_first else (west, south, east, north)
        size = {"bbox": ",".join(repr(value) for value in box), "width": across, "height": down}
        return asked(self.source, [*self.said, *((key, str(value)) for key, value in size.items())])


def asked(source: SourceFile, said: Sequence[tuple[str, str]]) -> Request:
    """The piece of a request by keys and values, after what the address has of them."""
    query = urlencode(said, safe=",:()/{}")
    address, told = source.filled(secret=True), source.filled(secret=False)
    joint = "" if address.endswith(("?", "&")) else "&" if "?" in address else "?"
    told = without_login(f"{told}{joint}{query}")
    return Request(f"{address}{joint}{query}", told, told)


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """A layer of the service on a frame that suits the wish."""
    root, version = _capabilities(source, service)
    layer = _layer(source, _layers(root))
    style = str(source.get("style", ""))
    if style and style not in layer.styles:
        what = f"{layer.name} has no style {style!r}"
        raise InputError(
            what, f"it has {', '.join(layer.styles) or 'none'}", nearest_name(style, layer.styles or ("",))
        )
    wished = [wish.frame.crs if wish.frame else None, wish.crs, _said_crs(source)]
    found = chosen(layer.crss, wished)
    if found is None:
        raise misses(source.name, f"a CRS of {layer.name} that is known here")
    name, crs, y_first = found
    frame = lattice_for(source, _within(wish, layer), crs)
    offered = tuple(texts(root, ".//Request/GetMap/Format")) or tuple(texts(root, ".//GetMap/Format"))
    form = _format(source, offered)
    new = version.startswith("1.3")
    limits = [int(value) for key in ("MaxWidth", "MaxHeight") for value in texts(root, f"Service/{key}")]
    most = (
        min(int(source.get("tile_cells", SIDE)), *limits) if limits else int(source.get("tile_cells", SIDE))
    )
    said = (
        ("service", "WMS"), ("version", version), ("request", "GetMap"), ("layers", layer.name),
        ("styles", style),
        ("crs" if new else "srs", name), ("format", form),
        ("transparent", "TRUE" if "jpeg" not in form else "FALSE"),
    )  # fmt: skip
    layers = []
    for part in apart(frame):
        side = block_side(part, most)
        addresses = MapAddresses(source, part, side, said, new and y_first)
        raster = RemoteBlocks(service, addresses, holding_of(source, side), part, side)
        layers.append(SourceLayer(f"{source.name}-{layer.name}", raster))
    return SourceLayers(tuple(layers), (f"layer {layer.name} in {name}, WMS {version}",))


def _within(wish: Wish, layer: MapLayer) -> Wish:
    """The wish, of the layer's own ground if it says none."""
    return wish if wish.ground is not None or layer.bounds is None else replace(wish, ground=layer.bounds)


def _said_crs(source: SourceFile) -> CRS | None:
    return parse_crs(str(source.get("crs"))) if source.get("crs") else None


def _format(source: SourceFile, offered: tuple[str, ...]) -> str:
    """The format to ask for. Raises InputError for one that is not offered."""
    wanted = source.get("format")
    if wanted is not None:
        if offered and wanted not in offered:
            remedy = nearest_name(str(wanted), offered)
            raise InputError(f"{source.name} gives no {wanted}", f"it offers {', '.join(offered)}", remedy)
        return str(wanted)
    return next((form for form in _FORMATS if form in offered), "image/png")


def _capabilities(source: SourceFile, service: Service) -> tuple[Element, str]:
    said = [("service", "WMS"), ("request", "GetCapabilities")]
    if source.get("version"):
        said.append(("version", str(source.get("version"))))
    root = xml_at(service.believing(86_400), asked(source, said), _ROOTS)
    return root, root.get("version") or ("1.3.0" if root.tag == _ROOTS[0] else "1.1.1")


def _layers(root: Element) -> list[MapLayer]:
    """The layers that have a name, each with what it inherits."""
    found: list[MapLayer] = []

    def go(element: Element, above: MapLayer) -> None:
        crss = dict.fromkeys(above.crss)
        for key in ("CRS", "SRS"):
            for words in texts(element, key):
                crss |= dict.fromkeys(words.split())
        styles = (*above.styles, *texts(element, "Style/Name"))
        name = text(element, "Name")
        here = MapLayer(name, text(element, "Title"), tuple(crss), styles, _bounds(element) or above.bounds)
        if name:
            found.append(here)
        for inner in element.findall("Layer"):
            go(inner, here)

    for layer in root.findall("Capability/Layer"):
        go(layer, MapLayer("", "", (), (), None))
    return found


def _bounds(element: Element) -> tuple[float, float, float, float] | None:
    box, old = element.find("EX_GeographicBoundingBox"), element.find("LatLonBoundingBox")
    try:
        if box is not None:
            sides = ("westBoundLongitude", "southBoundLatitude", "eastBoundLongitude", "northBoundLatitude")
            west, south, east, north = (float(text(box, side)) for side in sides)
            return west, south, east, north
        if old is not None:
            return (
                float(old.get("minx", "")),
                float(old.get("miny", "")),
                float(old.get("maxx", "")),
                float(old.get("maxy", "")),
            )
    except ValueError:
        pass
    return None


def _layer(source: SourceFile, layers: Sequence[MapLayer]) -> MapLayer:
    """The layer that the source names, or the only one. Raises InputError."""
    return picked(source, {layer.name: layer for layer in layers}, "layer")


def picked(source: SourceFile, offered: dict[str, T], what: str) -> T:
    """What the source names of things that are offered, or the only one. Raises InputError."""
    wanted = source.get("layer")
    if wanted is None and len(offered) == 1:
        return next(iter(offered.values()))
    names = list(offered)
    if wanted is None:
        shown = ", ".join(names[:8]) + (" ..." if len(names) > 8 else "")
        why = f"it offers {shown}" if names else "it offers none"
        raise InputError(
            f"{source.name} names no {what}", why, f"zembrel source set {source.name} layer=NAME"
        )
    if wanted not in offered:
        raise InputError(
            f"{source.name} offers no {what} {wanted!r}",
            "it is not in its capabilities",
            nearest_name(str(wanted), names or [""]),
        )
    return offered[str(wanted)]


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """The layers, with their styles and CRSs."""
    root, version = _capabilities(source, service)
    return [
        (
            layer.name,
            layer.title,
            f"WMS {version}; styles {', '.join(layer.styles) or 'none'}; {', '.join(layer.crss[:8])}",
        )
        for layer in _layers(root)
    ]
