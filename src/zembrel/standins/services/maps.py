"""Tiles and maps: addresses by zoom, column and row; OGC WMTS 1.0 and WMS 1.1.1 and 1.3.0.

Sources: OGC 07-057r7 (WMTS), OGC 01-068r3 (WMS 1.1.1), OGC 06-042 (WMS 1.3.0).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from xml.sax.saxutils import quoteattr

from zembrel.standins.services.pictures import LAYERS, TYPES, picture
from zembrel.standins.services.scene import Box, Scene, seen_in

_HALF = math.pi * 6_378_137.0
_SIDE = 256
FINEST = 19
CODES = (3857, 4326, 32626, 32627)
_MOST = 4_096  # cells of a side of a map
_SCALE = 559082264.0287178  # denominator of zoom 0


class MapError(Exception):
    """What a service says of a request that it does not take: a code of its standard, and words."""

    def __init__(self, code: str, words: str) -> None:
        super().__init__(words)
        self.code, self.words = code, words


def is_tile(zoom: int, column: int, row: int) -> bool:
    """Return True for numbers that a tile can have."""
    return 0 <= zoom <= FINEST and 0 <= column < 1 << zoom and 0 <= row < 1 << zoom


def tile(scene: Scene, layer: str, zoom: int, column: int, row: int, form: str) -> bytes | None:
    """A web tile, its row counted from the north; None where there is none."""
    if layer not in LAYERS or not is_tile(zoom, column, row):
        return None
    span = 2 * _HALF / (1 << zoom)
    west, north = column * span - _HALF, _HALF - row * span
    return picture(seen_in(scene, 3857, (west, north - span, west + span, north), _SIDE, _SIDE), layer, form)


def wms_map(scene: Scene, said: Mapping[str, str]) -> tuple[bytes, str]:
    """A map as its parameters say, and its media type. Raises MapError."""
    version = said.get("version", "1.3.0")
    layer, kind = said.get("layers", ""), said.get("format", "image/png")
    if layer not in LAYERS:
        raise MapError("LayerNotDefined", f"there is no layer {layer}")
    if said.get("styles", "") not in ("", "plain"):
        raise MapError("StyleNotDefined", f"there is no style {said['styles']}")
    name = said.get("crs" if version == "1.3.0" else "srs", "")
    code = (
        4326 if name == "CRS:84" else int(name.removeprefix("EPSG:") or 0) if name.startswith("EPSG:") else 0
    )
    if code not in CODES:
        raise MapError("InvalidCRS" if version == "1.3.0" else "InvalidSRS", f"{name} is not served")
    if kind not in TYPES:
        raise MapError("InvalidFormat", f"{kind} is not served")
    try:
        one, two, three, four = (float(part) for part in said["bbox"].split(","))
        columns, rows = int(said["width"]), int(said["height"])
    except (KeyError, ValueError) as exc:
        raise MapError("MissingParameterValue", "bbox, width and height are needed") from exc
    if not (0 < columns <= _MOST and 0 < rows <= _MOST):
        raise MapError("InvalidParameterValue", f"a map has at most {_MOST} cells a side")
    yx = version == "1.3.0" and name == "EPSG:4326"  # latitude first, by the registry
    box: Box = (two, one, four, three) if yx else (one, two, three, four)
    if box[0] >= box[2] or box[1] >= box[3]:
        raise MapError("InvalidBoundingBox", "it holds nothing")
    edge = {4326: 180.0, 3857: _HALF}.get(code, math.inf)
    if box[0] < -edge - 1e-6 or box[2] > edge + (box[2] - box[0]) / columns or (code == 4326 and box[3] > 90):
        raise MapError("InvalidBoundingBox", "it leaves the world")
    return picture(seen_in(scene, code, box, columns, rows), layer, TYPES[kind]), kind


def wms_error(error: MapError, version: str) -> bytes:
    """A service exception report."""
    space = ' xmlns="http://www.opengis.net/ogc"' if version == "1.3.0" else ""
    return (
        f'<?xml version="1.0"?><ServiceExceptionReport version="{version}"{space}>'
        f"<ServiceException code={quoteattr(error.code)}>{error.words}</ServiceException>"
        "</ServiceExceptionReport>"
    ).encode()


def wms_capabilities(address: str, version: str, bounds: Box) -> bytes:
    """What the service can do; bounds: of the island in degrees."""
    new = version == "1.3.0"
    name, root = ("CRS", "WMS_Capabilities") if new else ("SRS", "WMT_MS_Capabilities")
    space = ' xmlns="http://www.opengis.net/wms" xmlns:xlink="http://www.w3.org/1999/xlink"'
    crss = "".join(f"<{name}>EPSG:{code}</{name}>" for code in CODES) + ("<CRS>CRS:84</CRS>" if new else "")
    west, south, east, north = bounds
    place = (
        f"<EX_GeographicBoundingBox><westBoundLongitude>{west}</westBoundLongitude>"
        f"<eastBoundLongitude>{east}</eastBoundLongitude><southBoundLatitude>{south}</southBoundLatitude>"
        f"<northBoundLatitude>{north}</northBoundLatitude></EX_GeographicBoundingBox>"
        if new
        else f'<LatLonBoundingBox minx="{west}" miny="{south}" maxx="{east}" maxy="{north}"/>'
    )
    layers = "".join(
        f"<Layer><Name>{layer}</Name><Title>{title}</Title>"
        "<Style><Name>plain</Name><Title>As it is</Title></Style></Layer>"
        for layer, title in LAYERS.items()
    )
    formats = "".join(f"<Format>{kind}</Format>" for kind in TYPES)
    link = (
        '<OnlineResource xmlns:xlink="http://www.w3.org/1999/xlink" xlink:href='
        + quoteattr(address + "?")
        + "/>"
    )
    http = f"<DCPType><HTTP><Get>{link}</Get></HTTP></DCPType>"
    asked = (
        f"<GetCapabilities><Format>text/xml</Format>{http}</GetCapabilities><GetMap>{formats}{http}</GetMap>"
    )
    return (
        f'<?xml version="1.0"?><{root} version="{version}"{space if new else ""}><Service><Name>WMS</Name>'
        f"<Title>Isle of Marrowick</Title>{link}<MaxWidth>{_MOST}</MaxWidth>"
        f"<MaxHeight>{_MOST}</MaxHeight></Service>"
        f"<Capability><Request>{asked}</Request><Layer><Title>Isle of Marrowick</Title>{crss}{place}{layers}"
        f"</Layer></Capability></{root}>"
    ).encode()


def wmts_capabilities(address: str, bounds: Box) -> bytes:
    """What the tile service can do: one tile matrix set, asked by keys and by resources."""
    west, south, east, north = bounds
    matrices = "".join(
        f"<TileMatrix><ows:Identifier>{zoom}</ows:Identifier>"
        f"<ScaleDenominator>{_SCALE / (1 << zoom)!r}</ScaleDenominator>"
        f"<TopLeftCorner>{-_HALF!r} {_HALF!r}</TopLeftCorner><TileWidth>{_SIDE}</TileWidth>"
        f"<TileHeight>{_SIDE}</TileHeight><MatrixWidth>{1 << zoom}</MatrixWidth>"
        f"<MatrixHeight>{1 << zoom}</MatrixHeight></TileMatrix>"
        for zoom in range(FINEST + 1)
    )
    layers = "".join(
        f"<Layer><ows:Title>{title}</ows:Title><ows:WGS84BoundingBox><ows:LowerCorner>{west} {south}"
        f"</ows:LowerCorner><ows:UpperCorner>{east} {north}</ows:UpperCorner></ows:WGS84BoundingBox>"
        f"<ows:Identifier>{layer}</ows:Identifier><Style isDefault='true'><ows:Identifier>plain"
        "</ows:Identifier></Style><Format>image/png</Format>"
        + "".join(f"<Format>{kind}</Format>" for kind in ("image/jpeg",) if layer == "ortho")
        + "<TileMatrixSetLink><TileMatrixSet>web</TileMatrixSet></TileMatrixSetLink>"
        + (
            f"<ResourceURL format='image/png' resourceType='tile' template='{address}/{layer}/{{Style}}/"
            "{TileMatrixSet}/{TileMatrix}/{TileRow}/{TileCol}.png'/>"
            if layer != "cover"
            else ""
        )
        + "</Layer>"
        for layer, title in LAYERS.items()
    )
    return (
        '<?xml version="1.0"?><Capabilities xmlns="http://www.opengis.net/wmts/1.0" '
        'xmlns:ows="http://www.opengis.net/ows/1.1" xmlns:xlink="http://www.w3.org/1999/xlink" '
        'version="1.0.0">'
        "<ows:OperationsMetadata><ows:Operation name='GetTile'><ows:DCP><ows:HTTP>"
        f"<ows:Get xlink:href='{address}?'/></ows:HTTP></ows:DCP></ows:Operation></ows:OperationsMetadata>"
        f"<Contents>{layers}<TileMatrixSet><ows:Identifier>web</ows:Identifier>"
        f"<ows:SupportedCRS>urn:ogc:def:crs:EPSG::3857</ows:SupportedCRS>{matrices}</TileMatrixSet></Contents>"
        "</Capabilities>"
    ).encode()
