"""Coverages: OGC WCS 2.0.1 (keys and values), OGC API - Coverages and - Tiles.

Sources: OGC 09-110r4, OGC 09-147r3 (WCS by KVP), OGC 19-087 and OGC 20-057 (APIs).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from zembrel.standins.services.maps import CODES, FINEST, MapError
from zembrel.standins.services.pictures import LAYERS, cells_of, geotiff
from zembrel.standins.services.scene import Box, Scene, seen_in

HOME, CELL = 32626, 2.0  # of the coverages as they are kept
_MOST = 4_096


def wcs_capabilities(address: str) -> bytes:
    """The coverages there are."""
    summaries = "".join(
        f"<wcs:CoverageSummary><wcs:CoverageId>{layer}</wcs:CoverageId>"
        "<wcs:CoverageSubtype>RectifiedGridCoverage</wcs:CoverageSubtype></wcs:CoverageSummary>"
        for layer in LAYERS
    )
    return (
        '<?xml version="1.0"?><wcs:Capabilities xmlns:wcs="http://www.opengis.net/wcs/2.0" '
        'xmlns:ows="http://www.opengis.net/ows/2.0" xmlns:xlink="http://www.w3.org/1999/xlink" '
        'version="2.0.1">'
        "<ows:ServiceIdentification><ows:Profile>http://www.opengis.net/spec/WCS_service-extension_scaling/1.0"
        "</ows:Profile></ows:ServiceIdentification>"
        "<ows:OperationsMetadata><ows:Operation name='GetCoverage'><ows:DCP><ows:HTTP>"
        f"<ows:Get xlink:href='{address}?'/></ows:HTTP></ows:DCP></ows:Operation></ows:OperationsMetadata>"
        f"<wcs:Contents>{summaries}</wcs:Contents></wcs:Capabilities>"
    ).encode()


def wcs_error(error: MapError) -> bytes:
    """An exception report."""
    return (
        '<?xml version="1.0"?><ows:ExceptionReport xmlns:ows="http://www.opengis.net/ows/2.0" '
        'version="2.0.1">'
        f'<ows:Exception exceptionCode="{error.code}"><ows:ExceptionText>{error.words}</ows:ExceptionText>'
        "</ows:Exception></ows:ExceptionReport>"
    ).encode()


def wcs_description(layer: str, box: Box) -> bytes:
    """A coverage's grid; box: in its CRS."""
    west, south, east, north = box
    columns, rows = round((east - west) / CELL), round((north - south) / CELL)
    crs = f"http://www.opengis.net/def/crs/EPSG/0/{HOME}"
    return (
        '<?xml version="1.0"?><wcs:CoverageDescriptions xmlns:wcs="http://www.opengis.net/wcs/2.0" '
        'xmlns:gml="http://www.opengis.net/gml/3.2" xmlns:swe="http://www.opengis.net/swe/2.0">'
        f'<wcs:CoverageDescription gml:id="{layer}"><gml:boundedBy>'
        f'<gml:Envelope srsName="{crs}" axisLabels="E N" '
        f'uomLabels="metre metre" srsDimension="2"><gml:lowerCorner>{west} {south}</gml:lowerCorner>'
        f"<gml:upperCorner>{east} {north}</gml:upperCorner></gml:Envelope></gml:boundedBy>"
        f'<wcs:CoverageId>{layer}</wcs:CoverageId><gml:domainSet><gml:RectifiedGrid gml:id="g" dimension="2">'
        f"<gml:limits><gml:GridEnvelope><gml:low>0 0</gml:low><gml:high>{columns - 1} {rows - 1}</gml:high>"
        "</gml:GridEnvelope></gml:limits><gml:axisLabels>E N</gml:axisLabels>"
        '<gml:origin><gml:Point gml:id="p" '
        f'srsName="{crs}"><gml:pos>{west + CELL / 2} {north - CELL / 2}</gml:pos></gml:Point></gml:origin>'
        f'<gml:offsetVector srsName="{crs}">{CELL} 0</gml:offsetVector>'
        f'<gml:offsetVector srsName="{crs}">0 {-CELL}'
        "</gml:offsetVector></gml:RectifiedGrid></gml:domainSet></wcs:CoverageDescription></wcs:CoverageDescriptions>"
    ).encode()


def wcs_coverage(scene: Scene, said: Sequence[tuple[str, str]], whole: Box) -> bytes:
    """A part of a coverage as a GeoTIFF. Raises MapError."""
    keys = {key.lower(): value for key, value in said}
    layer = keys.get("coverageid", "")
    if layer not in LAYERS:
        raise MapError("NoSuchCoverage", f"there is no coverage {layer}")
    west, south, east, north = whole
    for key, value in said:
        found = re.fullmatch(r"([EN])\(([-+.\d]+),([-+.\d]+)\)", value)
        if key.lower() != "subset":
            continue
        if found is None:
            raise MapError("InvalidAxisLabel", f"the axes are E and N, not {value}")
        low, high = float(found[2]), float(found[3])
        if low >= high:
            raise MapError("InvalidSubsetting", "it holds nothing")
        if found[1] == "E":
            west, east = low, high
        else:
            south, north = low, high
    sizes = dict(re.findall(r"([EN])\((\d+)\)", keys.get("scalesize", "")))
    columns, rows = (
        int(sizes.get("E", round((east - west) / CELL))),
        int(sizes.get("N", round((north - south) / CELL))),
    )
    if not (0 < columns <= _MOST and 0 < rows <= _MOST):
        raise MapError("InvalidParameterValue", f"at most {_MOST} cells a side are given")
    box = west, south, east, north
    return geotiff(cells_of(seen_in(scene, HOME, box, columns, rows), layer), HOME, box)


def api_coverage(scene: Scene, layer: str, said: Mapping[str, str]) -> bytes:
    """A part of a coverage by `bbox`, `bbox-crs` and a size. Raises MapError."""
    if layer not in LAYERS:
        raise MapError("NotFound", f"there is no collection {layer}")
    code = (
        int(said.get("bbox-crs", "").rpartition("/")[2] or 4326)
        if "CRS84" not in said.get("bbox-crs", "")
        else 4326
    )
    plain = "CRS84" in said.get("bbox-crs", "CRS84")
    try:
        one, two, three, four = (float(part) for part in said["bbox"].split(","))
        sizes = re.findall(r"\((\d+)\)", said.get("scale-size", ""))
        columns, rows = (int(part) for part in (sizes or (said["width"], said["height"])))
    except (KeyError, ValueError) as exc:
        raise MapError("InvalidParameter", "bbox and a size are needed") from exc
    if code not in CODES or not (0 < columns <= _MOST and 0 < rows <= _MOST):
        raise MapError("InvalidParameter", "this CRS or size is not served")
    box: Box = (one, two, three, four) if plain or code != 4326 else (two, one, four, three)
    return geotiff(cells_of(seen_in(scene, code, box, columns, rows), layer), code, box)


def collections(address: str, bounds: Box) -> dict[str, Any]:
    """The collections of the APIs, with links to tiles and coverages."""
    found = []
    for layer, title in LAYERS.items():
        own = f"{address}/collections/{layer}"
        links = [
            {
                "rel": "http://www.opengis.net/def/rel/ogc/1.0/tilesets-map",
                "href": f"{own}/map/tiles",
                "type": "application/json",
            },
            {
                "rel": "http://www.opengis.net/def/rel/ogc/1.0/coverage",
                "href": f"{own}/coverage",
                "type": "image/tiff",
            },
        ]
        crss = ["http://www.opengis.net/def/crs/OGC/1.3/CRS84"]
        crss += [f"http://www.opengis.net/def/crs/EPSG/0/{code}" for code in CODES]
        extent = {"spatial": {"bbox": [list(bounds)], "grid": [{"cellsCount": 1}]}}
        found.append({"id": layer, "title": title, "links": links, "crs": crss, "extent": extent})
    return {"collections": found, "links": [{"rel": "self", "href": f"{address}/collections"}]}


def tilesets(address: str, layer: str) -> dict[str, Any]:
    """The tile sets of a collection."""
    own = f"{address}/collections/{layer}/map/tiles/WebMercatorQuad"
    kind = "image/png" if layer != "ortho" else "image/jpeg"
    ending = "{tileMatrix}/{tileRow}/{tileCol}"
    link = {
        "rel": "item",
        "href": f"{own}/{ending}?f={'png' if layer != 'ortho' else 'jpg'}",
        "templated": True,
        "type": kind,
    }
    scheme = "http://www.opengis.net/def/tilematrixset/OGC/1.0/WebMercatorQuad"
    limits = [{"tileMatrix": str(zoom)} for zoom in range(FINEST + 1)]
    made = {"title": layer, "dataType": "map", "crs": "http://www.opengis.net/def/crs/EPSG/0/3857"}
    return {
        "tilesets": [{**made, "tileMatrixSetURI": scheme, "tileMatrixSetLimits": limits, "links": [link]}]
    }
