"""Tiles of OGC WMTS 1.0 services, by resource addresses or by keys and values.

Source: OGC 07-057r7. A scale denominator is of pixels of 0.28 mm; a top left corner has its coordinates in
the order of the CRS's registered axes, x first for CRS84.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple
from xml.etree.ElementTree import Element

from zembrel.errors import InputError, nearest_name
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, same
from zembrel.grid.frame import Affine, Frame
from zembrel.sources.crsnames import crs_named
from zembrel.sources.documents import misses, numbers, text, texts, xml_at
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tiled import holding_of, nothing_there
from zembrel.sources.wish import MARGIN, SourceLayer, SourceLayers, Wish
from zembrel.sources.wms import asked, picked
from zembrel.web.asking import Request

_PIXEL = 0.00028  # metres
_FORMATS = ("image/png", "image/webp", "image/jpeg")


class TileMatrix(NamedTuple):
    """One level: its name, the outer corner, cell size, cells of a tile and tiles in all."""

    name: str
    left: float
    top: float
    cell: float
    columns: int
    rows: int
    across: int
    down: int


class TileRequests(NamedTuple):
    """How tiles are asked for: by a template of addresses, or by keys; and what all have in common."""

    template: str
    said: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class MatrixAddresses:
    """Addresses of the tiles of a level, from its tile at column and row `left` and `top`."""

    source: SourceFile
    template: str
    said: tuple[tuple[str, str], ...]
    matrix: TileMatrix
    left: int
    top: int
    turn: int  # columns once around the Earth, 0 if it does not go around

    def piece(self, row: int, column: int) -> Request:
        """The tile at a row and column of what is wanted."""
        x = self.left + column
        x = x % self.turn if self.turn else x
        values = {"TileMatrix": self.matrix.name, "TileRow": str(self.top + row), "TileCol": str(x)}
        if not self.template:
            return asked(self.source, [*self.said, *((key.lower(), value) for key, value in values.items())])
        address = self.template
        for key, value in {**dict(self.said), **values}.items():
            address = address.replace(f"{{{key}}}", value)
        return self.source.to(address)


def open_source(source: SourceFile, service: Service, wish: Wish) -> SourceLayers:
    """The tiles of a layer as a raster of their finest level, with the others as coarser ones."""
    root = _capabilities(source, service)
    layer = picked(source, {text(one, "Identifier"): one for one in root.findall("Contents/Layer")}, "layer")
    name = text(layer, "Identifier")
    linked = list(texts(layer, "TileMatrixSetLink/TileMatrixSet"))
    sets = {text(one, "Identifier"): one for one in root.findall("Contents/TileMatrixSet")}
    chosen = _set(source, {key: sets[key] for key in linked if key in sets}, wish)
    set_name, crs, y_first, element = chosen
    way = _asking(source, layer, set_name)
    matrices = sorted(
        (_matrix(one, crs, y_first=y_first) for one in element.findall("TileMatrix")), key=lambda m: m.cell
    )
    levels = [
        level for matrix in matrices
        if (level := _level(source, service, wish, (crs, matrix), way)) is not None
    ]  # fmt: skip
    if not levels:
        raise nothing_there(source)
    first = levels[0]
    raster = RemoteBlocks(
        service, first.addresses, first.holding, first.frame, first.side, coarser_ones=tuple(levels[1:])
    )
    return SourceLayers(
        (SourceLayer(f"{source.name}-{name}", raster),), (f"layer {name} in tile matrix set {set_name}",)
    )


def _capabilities(source: SourceFile, service: Service) -> Element:
    said = [("service", "WMTS"), ("request", "GetCapabilities"), ("version", "1.0.0")]
    plain = source.filled(secret=False).lower().partition("?")[0].endswith(".xml")
    request = source.request() if plain else asked(source, said)
    return xml_at(service.believing(86_400), request, ("Capabilities",))


def _set(source: SourceFile, sets: dict[str, Element], wish: Wish) -> tuple[str, CRS, bool, Element]:
    """The tile matrix set to use: as the source says, in the CRS that is wished for, or the first known."""
    wanted = source.get("tiling")
    if wanted is not None and wanted not in sets:
        what = f"{source.name} offers no tile matrix set {wanted!r} for this layer"
        raise InputError(what, f"it offers {', '.join(sets)}", nearest_name(str(wanted), sets or [""]))
    known = []
    for name, element in sets.items():
        meant = crs_named(text(element, "SupportedCRS"))
        if meant is not None and wanted in (None, name):
            known.append((name, *meant, element))
    if not known:
        raise misses(source.name, "a tile matrix set in a CRS that is known here")
    crs = wish.frame.crs if wish.frame is not None else wish.crs
    return next((entry for entry in known if crs is not None and same(entry[1], crs)), known[0])


def _asking(source: SourceFile, layer: Element, set_name: str) -> TileRequests:
    """The template of addresses, if there is one for the format, and what all requests have in common."""
    formats = list(texts(layer, "Format"))
    wanted = source.get("format")
    form = (
        str(wanted)
        if wanted
        else next((one for one in _FORMATS if one in formats), formats[0] if formats else "image/png")
    )
    styles = [one for one in layer.findall("Style") if one.get("isDefault") == "true"] or layer.findall(
        "Style"
    )
    style = str(source.get("style") or (text(styles[0], "Identifier") if styles else "default"))
    name = text(layer, "Identifier")
    for resource in layer.findall("ResourceURL"):
        if (
            resource.get("resourceType") == "tile"
            and resource.get("format") == form
            and resource.get("template")
        ):
            said = [("Layer", name), ("Style", style), ("style", style), ("TileMatrixSet", set_name)]
            said += [(text(one, "Identifier"), text(one, "Default")) for one in layer.findall("Dimension")]
            return TileRequests(str(resource.get("template")), tuple(said))
    keys = [("service", "WMTS"), ("request", "GetTile"), ("version", "1.0.0"), ("layer", name)]
    keys += [("style", style), ("format", form), ("tilematrixset", set_name)]
    return TileRequests("", tuple(keys))


def _matrix(element: Element, crs: CRS, *, y_first: bool) -> TileMatrix:
    """A level. Raises RemoteError for one that does not hold together."""
    name = text(element, "Identifier")
    try:
        one, two = numbers(text(element, "TopLeftCorner"))
        scale = float(text(element, "ScaleDenominator"))
        counts = [
            int(text(element, key)) for key in ("TileWidth", "TileHeight", "MatrixWidth", "MatrixHeight")
        ]
    except ValueError as exc:
        raise misses(f"the tile matrix {name}", "its corner, scale and size") from exc
    if not (scale > 0 and all(count > 0 for count in counts) and max(counts[:2]) <= 8_192):
        raise misses(f"the tile matrix {name}", "a scale and sizes that can be")
    left, top = (two, one) if y_first else (one, two)
    return TileMatrix(name, left, top, scale * _PIXEL / _metres(crs), *counts)


def _metres(crs: CRS) -> float:
    """Metres of a unit, as the standard counts them: degrees along the equator."""
    if isinstance(crs, GeographicCRS):
        return crs.unit.factor * math.pi / 180 * crs.datum.ellipsoid.semi_major
    return crs.unit.factor if isinstance(crs, ProjectedCRS) else 1.0


def _level(
    source: SourceFile, service: Service, wish: Wish, of: tuple[CRS, TileMatrix], way: TileRequests
) -> RemoteBlocks | None:
    """What of a level is wanted; None if nothing."""
    crs, matrix = of
    width, height = matrix.columns * matrix.cell, matrix.rows * matrix.cell
    turn = round(crs.circuit.turn / width) if crs.circuit is not None else 0
    turn = turn if turn == matrix.across else 0
    left, top, right, bottom = 0, 0, matrix.across, matrix.down
    bounds = wish.bounds_in(crs, source.get("bounds"))
    if bounds is not None:
        west, south, east, north = bounds
        edge = MARGIN * matrix.cell
        left = math.floor((west - edge - matrix.left) / width)
        right = math.ceil((east + edge - matrix.left) / width)
        top = max(math.floor((matrix.top - north - edge) / height), 0)
        bottom = min(math.ceil((matrix.top - south + edge) / height), matrix.down)
        if not turn:
            left, right = max(left, 0), min(right, matrix.across)
    if left >= right or top >= bottom:
        return None
    corner = Affine(matrix.left + left * width, matrix.top - top * height, matrix.cell, -matrix.cell)
    frame = Frame(crs, corner, (right - left) * matrix.columns, (bottom - top) * matrix.rows)
    side = (matrix.rows, matrix.columns)
    addresses = MatrixAddresses(source, way.template, way.said, matrix, left, top, turn)
    return RemoteBlocks(service, addresses, holding_of(source, side), frame, side)


def offers(source: SourceFile, service: Service) -> list[tuple[str, str, str]]:
    """The layers, with their styles, formats and tile matrix sets."""
    found = []
    for layer in _capabilities(source, service).findall("Contents/Layer"):
        parts = {
            "styles": "Style/Identifier",
            "formats": "Format",
            "tile matrix sets": "TileMatrixSetLink/TileMatrixSet",
        }
        more = "; ".join(f"{what} {', '.join(texts(layer, path))}" for what, path in parts.items())
        found.append((text(layer, "Identifier"), text(layer, "Title"), more))
    return found
