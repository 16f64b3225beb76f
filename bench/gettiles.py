"""Usage: gettiles.py ADDRESS SIDE kept|fetched ours|alone. Tiles onto a frame, or by the plainest means:

an asynchronous downloader and the codec on two threads. Tells the seconds.
"""

from __future__ import annotations

import asyncio
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import imagecodecs

from zembrel.engine.limits import Limits
from zembrel.engine.run import over_panes
from zembrel.grid.tiling import TILINGS, TileRange
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.tiled import TileAddresses, holding_of

address, side, way, who = sys.argv[1], int(sys.argv[2]), sys.argv[3], sys.argv[4]
ZOOM, LEFT, TOP = 17, 56_790, 46_600
said = {"kind": "xyz", "address": address + "/xyz/912/ortho/{z}/{x}/{y}.jpg", "private": True, "parallel": 16}
source = SourceFile(Path("bench.source.toml"), said)
service = Service.of(source)
tiles = TileRange(ZOOM, LEFT, TOP, LEFT + side, TOP + side)
raster = RemoteBlocks(
    service, TileAddresses(source, tiles, 1 << ZOOM, 1 << ZOOM), holding_of(source, (256, 256)),
    TILINGS["WebMercatorQuad"].frame_of(tiles, 256), (256, 256),
)  # fmt: skip
pieces = [piece for _, piece in raster.blocks(raster.frame.pane)]


async def downloaded() -> list[bytes]:
    gate = asyncio.Semaphore(16)

    async def one(client: httpx.AsyncClient, where: str) -> bytes:
        async with gate:
            return (await client.get(where)).content

    async with httpx.AsyncClient() as client:
        return list(await asyncio.gather(*(one(client, piece.request.address) for piece in pieces)))


def ours() -> None:
    """Ask for what is missing, and put all tiles onto the frame."""
    for _ in service.bring(service.missing(pieces), raster.holding.check):
        pass
    whole = raster.without([])
    for _ in over_panes(whole, list(raster.frame.pane.blocks(1024, 1024)), whole.cells, Limits()):
        pass


def decode(data: list[bytes]) -> None:
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(imagecodecs.jpeg8_decode, data))


asyncio.run(downloaded())  # the server has made them then
if way == "kept":
    for _ in service.bring(pieces, raster.holding.check):
        pass
    data = [service.piece(piece, raster.holding.check).data for piece in pieces]
corner = raster.frame.pane.blocks(256, 256)
raster.cells(next(iter(corner)))  # what is loaded at the first tile is no work on tiles
decode([service.piece(pieces[0], raster.holding.check).data])
if way == "fetched":
    service.cache.clear(service.own)
began = time.perf_counter()
if who == "ours":
    ours()
else:
    decode(data if way == "kept" else asyncio.run(downloaded()))
print(time.perf_counter() - began)
