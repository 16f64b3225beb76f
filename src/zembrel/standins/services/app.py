"""The server: one island behind every kind of service."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from zembrel.standins.services import catalogues, coverages, maps
from zembrel.standins.services.catalogues import ShelfItem
from zembrel.standins.services.faults import Faults, FaultyApp
from zembrel.standins.services.maps import MapError
from zembrel.standins.services.pictures import TYPES
from zembrel.standins.services.scene import Box, Scene

_FORMS = {"png": "PNG", "jpg": "JPEG", "webp": "WEBP"}
_KINDS = {"png": "image/png", "jpg": "image/jpeg", "webp": "image/webp"}
_AHEAD = 20_000  # tiles that are kept


@dataclass(frozen=True)
class Island:
    """What is served: the scene, its bounds in degrees and in metres of the home zone, files and places."""

    scene: Scene
    bounds: Box
    home: Box
    images: Sequence[ShelfItem] = ()
    blocks: Sequence[ShelfItem] = ()
    places: Sequence[tuple[str, float, float]] = ()
    signed: float = 0.0
    faults: Faults = field(default_factory=Faults)


def make_app(island: Island) -> Any:
    """The application."""
    routes = [
        Route("/faults", _setting(island.faults)),
        Route("/xyz/{version}/{layer}/{z:int}/{x:int}/{y:int}.{ending}", _tiles(island, south=False)),
        Route("/tms/{version}/{layer}/{z:int}/{x:int}/{y:int}.{ending}", _tiles(island, south=True)),
        Route("/wmts", _wmts(island)),
        Route("/wmts/{layer}/{style}/web/{z:int}/{y:int}/{x:int}.{ending}", _tiles(island, south=False)),
        Route("/wms", _wms(island)),
        Route("/wcs", _wcs(island)),
        Route("/ogc/collections", _json(lambda r: coverages.collections(_base(r, "/ogc"), island.bounds))),
        Route(
            "/ogc/collections/{layer}/map/tiles",
            _json(lambda r: coverages.tilesets(_base(r, "/ogc"), r.path_params["layer"])),
        ),
        Route(
            "/ogc/collections/{layer}/map/tiles/WebMercatorQuad/{z:int}/{y:int}/{x:int}",
            _tiles(island, south=False),
        ),
        Route("/ogc/collections/{layer}/coverage", _coverage(island)),
        Route("/stac", _json(lambda r: catalogues.stac_landing(_base(r)))),
        Route("/stac/catalog.json", _json(lambda r: catalogues.stac_catalogue(island.images, _base(r)))),
        Route(
            "/stac/search",
            _json(
                lambda r: catalogues.stac_search(island.images, dict(r.query_params), _base(r), island.signed)
            ),
        ),
        Route("/stac/items/{stem}.json", _item(island)),
        Route("/blocks/index.geojson", _plain(lambda r: catalogues.block_index(island.blocks, _base(r)))),
        Route("/files/{name}", _files(island)),
        Route("/download", _files(island)),
        Route(
            "/places", _plain(lambda r: catalogues.places_found(island.places, r.query_params.get("q", "")))
        ),
    ]
    odd = dict.fromkeys((ValueError, OverflowError), _not_understood)
    return FaultyApp(Starlette(routes=routes, exception_handlers=odd), island.faults)


async def _not_understood(request: Request, exc: Exception) -> Response:
    """Answer a query whose numbers are not numeric."""
    return JSONResponse({"title": "Bad Request", "detail": str(exc)}, 400)


Endpoint = Callable[[Request], Any]


def _base(request: Request, path: str = "") -> str:
    return f"http://{request.url.netloc}{path}"


def _setting(faults: Faults) -> Endpoint:
    async def answer(request: Request) -> Response:
        return JSONResponse(faults.change(request.query_params))

    return answer


def _json(make: Callable[[Request], Any]) -> Endpoint:
    async def answer(request: Request) -> Response:
        return JSONResponse(make(request))

    return answer


def _plain(make: Callable[[Request], bytes]) -> Endpoint:
    async def answer(request: Request) -> Response:
        return Response(make(request), media_type="application/geo+json")

    return answer


def _tiles(island: Island, *, south: bool) -> Endpoint:
    @lru_cache(_AHEAD)
    def made(layer: str, zoom: int, column: int, row: int, ending: str) -> bytes | None:
        return maps.tile(island.scene, layer, zoom, column, row, _FORMS[ending])

    async def answer(request: Request) -> Response:
        said = request.path_params
        ending = said.get("ending") or request.query_params.get("f", "png")
        if said.get("version", island.faults.version) != island.faults.version or ending not in _FORMS:
            return Response("gone", 410)
        zoom, row = said["z"], said["y"]
        if not maps.is_tile(zoom, said["x"], row):
            return Response("no such tile", 404)
        row = (1 << zoom) - 1 - row if south else row
        data = await run_in_threadpool(made, said["layer"], zoom, said["x"], row, ending)
        if data is None:
            return Response("no such tile", 404)
        return Response(data, media_type=_KINDS[ending], headers={"ETag": f'"{zoom}-{said["x"]}-{row}"'})

    return answer


def _wms(island: Island) -> Endpoint:
    async def answer(request: Request) -> Response:
        said = {key.lower(): value for key, value in request.query_params.items()}
        version = said.get("version", "1.3.0")
        if said.get("request") == "GetCapabilities":
            text = maps.wms_capabilities(_base(request, "/wms"), version, island.bounds)
            return Response(text, media_type="text/xml")
        try:
            data, kind = await run_in_threadpool(maps.wms_map, island.scene, said)
        except MapError as exc:
            return Response(maps.wms_error(exc, version), media_type="text/xml")
        return Response(data, media_type=kind)

    return answer


def _wmts(island: Island) -> Endpoint:
    async def answer(request: Request) -> Response:
        said = {key.lower(): value for key, value in request.query_params.items()}
        if said.get("request") == "GetCapabilities":
            return Response(
                maps.wmts_capabilities(_base(request, "/wmts"), island.bounds), media_type="text/xml"
            )
        try:
            zoom, row, column = int(said["tilematrix"]), int(said["tilerow"]), int(said["tilecol"])
            form = TYPES[said["format"]]
        except (KeyError, ValueError):
            return Response("<ExceptionReport/>", 400, media_type="text/xml")
        data = await run_in_threadpool(
            maps.tile, island.scene, said.get("layer", ""), zoom, column, row, form
        )
        return Response(data, media_type=said["format"]) if data else Response("no such tile", 404)

    return answer


def _wcs(island: Island) -> Endpoint:
    async def answer(request: Request) -> Response:
        said = {key.lower(): value for key, value in request.query_params.items()}
        kind, text = said.get("request"), "text/xml"
        if kind == "GetCapabilities":
            return Response(coverages.wcs_capabilities(_base(request, "/wcs")), media_type=text)
        if kind == "DescribeCoverage":
            return Response(
                coverages.wcs_description(said.get("coverageid", ""), island.home), media_type=text
            )
        try:
            data = await run_in_threadpool(
                coverages.wcs_coverage, island.scene, list(request.query_params.multi_items()), island.home
            )
        except MapError as exc:
            return Response(coverages.wcs_error(exc), 404, media_type=text)
        return Response(data, media_type="image/tiff")

    return answer


def _coverage(island: Island) -> Endpoint:
    async def answer(request: Request) -> Response:
        try:
            layer, said = request.path_params["layer"], dict(request.query_params)
            data = await run_in_threadpool(coverages.api_coverage, island.scene, layer, said)
        except MapError as exc:
            return JSONResponse({"title": exc.code, "detail": exc.words}, 400)
        return Response(data, media_type="image/tiff")

    return answer


def _item(island: Island) -> Endpoint:
    async def answer(request: Request) -> Response:
        found = [item for item in island.images if item.path.stem == request.path_params["stem"]]
        if not found:
            return Response("no such item", 404)
        return JSONResponse(catalogues.stac_item(found[0], _base(request), island.signed))

    return answer


def _files(island: Island) -> Endpoint:
    held = {item.name: item for item in [*island.images, *island.blocks]}

    async def answer(request: Request) -> Response:
        name = request.path_params.get("name") or request.query_params.get("file", "")
        if not re.fullmatch(r"[\w.-]+", name) or name not in held:
            return Response("no such file", 404)
        if (
            island.signed
            and held[name] in island.images
            and not catalogues.holds_still(name, request.query_params)
        ):
            return Response("this address has expired", 403)
        status, headers, data = await run_in_threadpool(
            catalogues.part_of, held[name].path, request.headers.get("range")
        )
        return Response(data, status, headers, media_type="application/octet-stream")

    return answer
