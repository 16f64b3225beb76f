"""Usage: encodetiles.py PACK.zip FORMAT. Encodes the tiles of a pack again; tells the seconds."""

from __future__ import annotations

import io
import sys
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import imagecodecs
import numpy as np
from PIL import Image

CODECS = {
    "jpeg": lambda cells: imagecodecs.jpeg8_encode(cells, level=85),
    "webp": lambda cells: imagecodecs.webp_encode(cells, level=85, lossless=False),
    "png": lambda cells: imagecodecs.png_encode(cells, level=5),
}
encode: Any = CODECS[sys.argv[2]]
with zipfile.ZipFile(sys.argv[1]) as held:
    names = [name for name in held.namelist() if name.count("/") == 2]
    seconds = 0.0
    for start in range(0, len(names), 2_000):
        data = [held.read(name) for name in names[start : start + 2_000]]
        tiles = [np.asarray(Image.open(io.BytesIO(one)).convert("RGB")) for one in data]
        began = time.perf_counter()
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(encode, tiles))
        seconds += time.perf_counter() - began
print(seconds)
