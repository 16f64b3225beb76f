"""PNG in strips: encoded side by side, written one after the other, so that memory does not grow with size.

Source: PNG (W3C, third edition), sections 9 (filters) and 10 (compression). Each strip ends its piece of the
one stream of RFC 1950 at a whole byte, and refers to nothing before it.
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from zlib_ng import zlib_ng

from zembrel.formats.sink import FileStore, Sink
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.provenance import KEY, document
from zembrel.raster.model import Band, Block

Bytes = npt.NDArray[np.uint8]
_HEADER = 33  # bytes of the mark and the first chunk
_STRIP_CELLS = 500_000
_LEVEL = 6
_KINDS = {1: 0, 3: 2, 4: 6}  # bands -> colour type
_END = b"\x03\x00"  # an empty last block


@dataclass(frozen=True)
class PngEncoder:
    """Strips of bytes; what is void gets the colour `blank`, one number a band."""

    blank: tuple[int, ...]

    def encode(self, pane: Pane, block: Block) -> tuple[bytes, bytes]:
        """The filtered bytes of a strip, and them deflated."""
        cells = block.cells
        if block.valid is not None:
            blank = np.array(self.blank, cells.dtype)[:, None, None]
            cells = np.where(block.valid if block.valid.ndim == 3 else block.valid[None], cells, blank)
        rows = np.stack(list(cells), axis=-1).reshape(pane.rows, -1)
        plain = _filtered(rows, len(cells)).tobytes()
        packer = zlib_ng.compressobj(_LEVEL, zlib.DEFLATED, -15)
        return plain, packer.compress(plain) + packer.flush(zlib.Z_FULL_FLUSH)


class PngStore(FileStore):
    """The chunks of a PNG around strips."""

    def __init__(self, path: Path, frame: Frame, bands: int) -> None:
        head = struct.pack(">IIBBBBB", frame.columns, frame.rows, 8, _KINDS[bands], 0, 0, 0)
        super().__init__(path, b"\x89PNG\r\n\x1a\n" + _chunk(b"IHDR", head))
        self._sum = 1
        self.file.write(with_text(b"", KEY, document()))
        self.file.write(_chunk(b"IDAT", b"\x78\x9c"))

    def append(self, key: Any, encoded: Any) -> None:
        plain, packed = encoded
        self._sum = zlib.adler32(plain, self._sum)
        self.file.write(_chunk(b"IDAT", packed))

    def finish(self) -> None:
        self.file.write(_chunk(b"IDAT", _END + struct.pack(">I", self._sum)) + _chunk(b"IEND", b""))
        super().finish()


def with_text(png: bytes, key: str, text: str | None) -> bytes:
    """A PNG with an international text behind its header (ISO/IEC 15948, 11.3.4.5)."""
    if text is None:
        return png
    return png[:_HEADER] + _chunk(b"iTXt", key.encode() + b"\0\0\0\0\0" + text.encode()) + png[_HEADER:]


def png_sink(path: Path, frame: Frame, bands: tuple[Band, ...], blank: tuple[int, ...]) -> Sink:
    """A sink for 1, 3 or 4 bands of bytes: grey, red, green and blue, or these with opacity."""
    strips = tuple(frame.pane.blocks(max(1, _STRIP_CELLS // frame.columns), frame.columns))
    return Sink(strips, PngEncoder(blank), PngStore(path, frame, len(bands)), ("PNG",))


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def _filtered(rows: Bytes, step: int) -> Bytes:
    """Rows behind the number of their filter: the one of three that leaves the least."""
    left, above, corner = np.zeros_like(rows), np.zeros_like(rows), np.zeros_like(rows)
    left[:, step:] = rows[:, :-step]
    above[1:], corner[1:, step:] = rows[:-1], rows[:-1, :-step]
    ways = {1: rows - left, 2: rows - above, 4: rows - _predicted(left, above, corner)}
    rests = np.stack([np.abs(way.view(np.int8).astype(np.int16)).sum(1, np.int64) for way in ways.values()])
    rests[1:, 0] = np.iinfo(np.int64).max  # the row above the first belongs to another strip
    best = rests.argmin(0)
    made = np.empty((len(rows), rows.shape[1] + 1), np.uint8)
    for n, (number, way) in enumerate(ways.items()):
        chosen = best == n
        made[chosen, 0], made[chosen, 1:] = number, way[chosen]
    return made


def _predicted(left: Bytes, above: Bytes, corner: Bytes) -> Bytes:
    """The neighbour that is nearest to left + above - corner (A. W. Paeth, 1991)."""
    a, b, c = (part.astype(np.int16) for part in (left, above, corner))
    from_a, from_b, from_c = np.abs(b - c), np.abs(a - c), np.abs(a + b - 2 * c)
    nearest_a = (from_a <= from_b) & (from_a <= from_c)
    return np.where(nearest_a, left, np.where(from_b <= from_c, above, corner))
