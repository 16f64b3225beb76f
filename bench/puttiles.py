"""Usage: puttiles.py KIND COUNT WAY. Puts so many small tiles into a pack; tells the seconds of its thread.

WAY is `ours`, by the store of that kind, or `alone`, by inserting or appending their bytes and nothing else.
"""

from __future__ import annotations

import sqlite3
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from zembrel.deliver.packs.kinds import pack_at
from zembrel.deliver.packs.packfacts import PackFacts
from zembrel.deliver.quadtree import EncodedTile
from zembrel.grid.tiling import TILINGS, TileAddress

kind, count, way = sys.argv[1], int(sys.argv[2]), sys.argv[3]
side = int(count**0.5)
chance = np.random.default_rng(5).bytes(4_000 + side * side)
tiles = [
    EncodedTile(TileAddress(12, 1_700 + n % side, 1_400 + n // side), chance[n : n + 4_000], "png")
    for n in range(side * side)
]
web = TILINGS["WebMercatorQuad"]
with tempfile.TemporaryDirectory() as folder:
    path = Path(folder) / f"a.{kind}"
    began = time.process_time()
    if way == "ours":
        store = pack_at(kind, path, web, from_bottom=False)
        for tile in tiles:
            store.put(tile)
        store.finish(PackFacts("a", web, 12, 12, (-25.0, 45.0, -23.0, 47.0)))
    elif kind == "mbtiles":
        file = sqlite3.connect(path, isolation_level=None)
        file.execute("PRAGMA journal_mode = OFF")
        file.execute("PRAGMA synchronous = OFF")
        file.execute(
            "CREATE TABLE tiles (zoom_level INTEGER, tile_column INTEGER, tile_row INTEGER, tile_data BLOB)"
        )
        file.execute("CREATE UNIQUE INDEX place ON tiles (zoom_level, tile_column, tile_row)")
        file.execute("BEGIN")
        file.executemany("INSERT INTO tiles VALUES (?, ?, ?, ?)", ((*t.address, t.data) for t in tiles))
        file.execute("COMMIT")
        file.close()
    else:
        with path.open("wb") as out:
            for tile in tiles:
                out.write(tile.data)
    print(time.process_time() - began)
