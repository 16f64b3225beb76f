"""Usage: tileserver.py FILE. Serves a file and the island's tiles until it is killed; tells its address."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

from zembrel.standins.services.app import Island
from zembrel.standins.services.catalogues import ShelfItem
from zembrel.standins.services.scene import Seen
from zembrel.standins.services.serving import served


def scene(lon, lat):  # type: ignore[no-untyped-def]
    wave = 60 * np.sin(lon * 9_000) * np.cos(lat * 7_000) + 128
    grain = np.random.default_rng(1).integers(-6, 7, lon.size)
    return Seen(np.stack([wave + grain, 255 - wave + grain, wave / 2 + 60]).clip(0, 255), wave, wave * 0 + 2)


item = ShelfItem(Path(sys.argv[1]), "files", (-24.2, 45.9, -23.9, 46.1))
with served(Island(scene, (-25.0, 45.0, -23.0, 47.0), (0.0, 0.0, 1.0, 1.0), [item])) as address:
    print(address, flush=True)
    time.sleep(3_600)
