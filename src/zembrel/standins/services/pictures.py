"""Scenes as the bytes of pictures and of plain GeoTIFFs."""

from __future__ import annotations

import io
import struct
from typing import Any

import numpy as np
from PIL import Image

from zembrel.standins.services.scene import Array, Box, Seen

LAYERS = {"ortho": "Orthophoto", "heights": "Heights in metres", "cover": "Land cover"}
BASE, STEP = -1_000.0, 0.1  # heights: base + step * (65536 red + 256 green + blue)
PALETTE = {
    1: (88, 131, 153), 2: (226, 208, 160), 3: (158, 184, 104), 4: (148, 118, 128), 5: (62, 104, 66),
    6: (158, 152, 146),
}  # fmt: skip
TYPES = {"image/png": "PNG", "image/jpeg": "JPEG", "image/webp": "WEBP"}


def picture(seen: Seen, layer: str, form: str) -> bytes:
    """A layer of a scene as PNG, JPEG or WebP."""
    held = io.BytesIO()
    _image(seen, layer).save(held, form, **({"quality": 92} if form != "PNG" else {}))
    return held.getvalue()


def _image(seen: Seen, layer: str) -> Any:
    if layer == "cover":
        made = Image.fromarray(seen.codes.astype(np.uint8), "P")
        made.putpalette([part for n in range(256) for part in PALETTE.get(n, (0, 0, 0))])
        return made
    if layer == "heights":
        numbers = np.rint((seen.heights - BASE) / STEP).astype(np.uint32)
        return Image.fromarray(np.dstack([numbers >> 16, numbers >> 8 & 255, numbers & 255]).astype(np.uint8))
    return Image.fromarray(np.dstack(list(seen.colours)).astype(np.uint8))


def cells_of(seen: Seen, layer: str) -> Array:
    """A layer as (bands, rows, columns)."""
    if layer == "ortho":
        return seen.colours.astype(np.uint8)
    return seen.heights.astype("<f4")[None] if layer == "heights" else seen.codes.astype(np.uint8)[None]


def geotiff(cells: Array, code: int, box: Box) -> bytes:
    """Cells as a TIFF of one strip with its place. Source: TIFF 6.0; OGC GeoTIFF 1.1, section 7."""
    bands, rows, columns = cells.shape
    west, south, east, north = box
    data = np.moveaxis(cells, 0, -1).tobytes()
    model = 2 if code == 4326 else 1
    keys = [1, 1, 0, 3, 1024, 0, 1, model, 1025, 0, 1, 1, 2048 if model == 2 else 3072, 0, 1, code]
    bits = [cells.itemsize * 8] * bands
    entries: list[tuple[int, str, list[Any]]] = [
        (256, "I", [columns]), (257, "I", [rows]), (258, "H", bits), (259, "H", [1]),
        (262, "H", [2 if bands == 3 else 1]), (273, "I", [0]), (277, "H", [bands]), (278, "I", [rows]),
        (279, "I", [len(data)]), (284, "H", [1]), (339, "H", [3 if cells.dtype.kind == "f" else 1] * bands),
        (33550, "d", [(east - west) / columns, (north - south) / rows, 0.0]),
        (33922, "d", [0.0, 0.0, 0.0, west, north, 0.0]), (34735, "H", keys),
    ]  # fmt: skip
    kinds = {"H": 3, "I": 4, "d": 12}
    place = 8 + 2 + 12 * len(entries) + 4
    table, beside = b"", b""
    total = sum(len(p) for p in (struct.pack(f"<{len(v)}{k}", *v) for _, k, v in entries) if len(p) > 4)
    for tag, kind, values in entries:
        held = [place + total] if tag == 273 else values
        packed = struct.pack(f"<{len(held)}{kind}", *held)
        at = packed.ljust(4, b"\0") if len(packed) <= 4 else struct.pack("<I", place + len(beside))
        beside += packed if len(packed) > 4 else b""
        table += struct.pack("<HHI", tag, kinds[kind], len(values)) + at
    return b"II*\0" + struct.pack("<IH", 8, len(entries)) + table + b"\0\0\0\0" + beside + data
