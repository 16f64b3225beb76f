"""Tiles that are kept against decoding them; tiles of a server against a bare downloader; parts of a file."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from measure import HERE, ZEMBREL, Result, told_in_turn, used
from scene import frame, write_scene

KEPT, FETCHED, SHARE, REQUESTS = 1.3, 1.5, 0.02, 12
TILES = 45  # along a side: 2,025
SIDE = 20_000


def cases(folder: Path) -> Iterator[Result]:
    os.environ["ZEMBREL_CACHE"] = str(folder / "kept")
    write_scene(folder / "big.tif", frame(SIDE, SIDE), overviews="mean")
    server = subprocess.Popen(
        [sys.executable, str(HERE / "tileserver.py"), str(folder / "big.tif")],
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        assert server.stdout is not None
        address = server.stdout.readline().strip()
        for name, limit, words in (
            ("2,025 tiles that are kept", KEPT, "to decoding them"),
            ("2,025 tiles of a server", FETCHED, "to a bare downloader and decoding"),
        ):
            way = "kept" if limit == KEPT else "fetched"
            tiles = [sys.executable, str(HERE / "gettiles.py"), address, str(TILES), way]
            ours, plain = told_in_turn([*tiles, "ours"], [*tiles, "alone"], 3)
            note = f"{ours:.2f} s against {plain:.2f} s"
            yield Result(f"{name}, {words}", ours / plain, limit, note=note)
        yield from _part(folder, address)
    finally:
        server.kill()


def _part(folder: Path, address: str) -> Iterator[Result]:
    """One percent of a large file."""
    part = "731000,5098000,733000,5100000@EPSG:32626"
    words = [*ZEMBREL, "clip", f"{address}/files/big.tif", "--within", part, "--out", "part.tif", "--replace"]
    used([*words, "--quiet"], folder)
    said = json.loads(subprocess.run([*words, "--json"], cwd=folder, check=True, capture_output=True).stdout)
    size = (folder / "big.tif").stat().st_size
    note = f"{said['web']['bytes'] / 1e6:.1f} MB of {size / 1e6:,.0f} MB"
    yield Result("bytes of one percent of a file", said["web"]["bytes"] / size, SHARE, "of all", note=note)
    yield Result("requests for one percent of a file", said["web"]["requests"], REQUESTS, "requests")
