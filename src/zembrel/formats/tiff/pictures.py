"""Codecs that make the cells of a whole segment at once, by way of the codec package.

Sources: TIFF Technical Note 2 (JPEG, with shared tables); TIFF 6.0, sections 10 and 11 (CCITT); ISO/IEC
10918-1, annex B (frame header); ISO/IEC 15444-1, annex A (SIZ); RFC 9649 (WebP); the LERC specification,
version 2 to 4 ("Lerc2" header). What a segment says of its size is held against the layout before anything
is decoded.
"""

from __future__ import annotations

import struct
from typing import Any

import imagecodecs
import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff.overheard import overheard

Cells = npt.NDArray[Any]
Shape = tuple[int, int, int]  # rows, columns, samples
CODES = {
    2: "ccittrle", 3: "ccittfax3", 4: "ccittfax4", 7: "jpeg", 33003: "jpeg2k", 33005: "jpeg2k",
    34712: "jpeg2k", 34887: "lerc", 34933: "png", 50001: "webp",
}  # fmt: skip
WRITTEN = {"jpeg": 7, "webp": 50001, "lerc": 34887}
FAX = ("ccittrle", "ccittfax3", "ccittfax4")
LERC_PLAIN, LERC_DEFLATE, LERC_ZSTD = 0, 1, 2  # second value of tag 50674
LOSSY_QUALITY = 90  # of JPEG, if not said


def jpeg(data: bytes, shape: Shape, tables: bytes, space: str | None, to: str | None) -> Cells:
    """Cells of a JPEG segment whose colours are in `space`, as `to`."""
    _check(_jpeg_size(data), shape)
    return _fitted(
        imagecodecs.jpeg8_decode(data, tables=tables or None, colorspace=space, outcolorspace=to), shape
    )


def jpeg2k(data: bytes, shape: Shape) -> Cells:
    """Cells of a JPEG 2000 segment."""
    at = data.find(b"\xff\x4f\xff\x51")
    if at < 0:
        raise ValueError("no JPEG 2000 codestream")
    right, bottom, left, top = struct.unpack_from(">IIII", data, at + 8)
    _check((bottom - top, right - left), shape)
    return _fitted(imagecodecs.jpeg2k_decode(data, numthreads=1), shape)


def webp(data: bytes, shape: Shape) -> Cells:
    """Cells of a WebP segment."""
    _check(_webp_size(data), shape)
    return _fitted(imagecodecs.webp_decode(data, hasalpha=shape[2] == 4), shape)


def png(data: bytes, shape: Shape) -> Cells:
    """Cells of a PNG segment."""
    columns, rows = struct.unpack_from(">II", data, 16)
    _check((rows, columns), shape)
    return _fitted(imagecodecs.png_decode(data), shape)


def fax(name: str, data: bytes, shape: Shape, options: int) -> Cells:
    """Bits of a CCITT segment, 0 and 1, by the picture package, which takes whole files alone."""
    import io

    from PIL import Image

    rows, columns, _ = shape
    with (
        overheard(b"Fax") as said,
        Image.open(io.BytesIO(_as_file(name, data, rows, columns, options))) as page,
    ):
        try:
            cells = np.asarray(page).astype(np.uint8)
        except OSError as exc:
            raise ValueError(f"{exc}") from exc
    if said:
        raise ValueError(said[0])
    return _fitted(cells, shape)


def _as_file(name: str, data: bytes, rows: int, columns: int, options: int) -> bytes:
    """A TIFF of one strip, whose ones are white."""
    fields = [
        (256, columns), (257, rows), (258, 1), (259, {n: code for code, n in CODES.items()}[name]), (262, 1),
        (273, 8), (277, 1), (278, rows), (279, len(data)), *([(292, options)] if name == "ccittfax3" else []),
    ]  # fmt: skip
    directory = struct.pack("<H", len(fields)) + b"".join(
        struct.pack("<HHII", tag, 4, 1, n) for tag, n in fields
    )
    padded = data + b"\0" * (len(data) % 2)
    return b"II*\0" + struct.pack("<I", 8 + len(padded)) + padded + directory + b"\0\0\0\0"


def lerc(data: bytes, shape: Shape, packing: int, hole: float | None) -> Cells:
    """Cells of a LERC segment; what it says is not there becomes `hole`, or NaN of floats."""
    rows, columns, samples = shape
    most = rows * columns * samples * 8 + 65_536
    if packing == LERC_DEFLATE:
        data = bytes(imagecodecs.zlib_decode(data, out=most))
    elif packing == LERC_ZSTD:
        data = bytes(imagecodecs.zstd_decode(data, out=most))
    if data[:6] != b"Lerc2 ":
        raise ValueError("no LERC data")
    version = struct.unpack_from("<i", data, 6)[0]
    at = 14 if version >= 3 else 10
    _check(struct.unpack_from("<ii", data, at), shape)
    cells, known = imagecodecs.lerc_decode(data, masks=True)
    if known is None or known.all():
        return _fitted(cells, shape)
    cells = np.array(cells)
    value = hole if hole is not None else (np.nan if cells.dtype.kind == "f" else 0)
    cells[~known] = value
    return _fitted(cells, shape)


def _fitted(cells: Cells, shape: Shape) -> Cells:
    """`cells` as (rows, columns, samples). Raises ValueError if there are fewer than that."""
    cells = cells[:, :, None] if cells.ndim == 2 else cells
    if cells.shape[0] < shape[0] or cells.shape[1] < shape[1] or cells.shape[2] != shape[2]:
        raise ValueError(f"{cells.shape} cells where {shape} are due")
    return cells[: shape[0], : shape[1]]


def _check(size: tuple[int, int], shape: Shape) -> None:
    """Raise ValueError for a segment that claims another size than the layout gives it.

    The last strip may be told to be as high as the others.
    """
    rows, columns = size
    if not (shape[0] <= rows <= max(shape[0] * 64, 4096) and shape[1] <= columns <= shape[1] + 64):
        raise ValueError(f"it says {rows:,} x {columns:,} cells where {shape[0]:,} x {shape[1]:,} are due")


def _jpeg_size(data: bytes) -> tuple[int, int]:
    """Rows and columns of the first frame header."""
    at = 2
    while at + 9 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if marker in range(0xC0, 0xD0) and marker not in (0xC4, 0xC8, 0xCC):
            rows, columns = struct.unpack_from(">HH", data, at + 5)
            return rows, columns
        at += 2 + (0 if marker in range(0xD0, 0xDA) else struct.unpack_from(">H", data, at + 2)[0])
    raise ValueError("no JPEG frame header")


def _webp_size(data: bytes) -> tuple[int, int]:
    if data[:4] != b"RIFF" or data[8:12] != b"WEBP" or len(data) < 30:
        raise ValueError("no WebP data")
    kind = data[12:16]
    if kind == b"VP8 ":
        columns, rows = struct.unpack_from("<HH", data, 26)
        return rows & 0x3FFF, columns & 0x3FFF
    if kind == b"VP8L":
        packed = struct.unpack_from("<I", data, 21)[0]
        return (packed >> 14 & 0x3FFF) + 1, (packed & 0x3FFF) + 1
    return int.from_bytes(data[27:30], "little") + 1, int.from_bytes(data[24:27], "little") + 1


def encode(name: str, cells: Cells, level: float | None, photo: bool) -> bytes:
    """One segment (rows, columns, samples) as `jpeg`, `webp` or `lerc`.

    level: quality of 1 to 100 (WebP: None for lossless), or the largest error LERC may make.
    """
    if name == "jpeg":
        space, to, sampling = ("RGB", "YCBCR", "420") if photo else ("GRAYSCALE", "GRAYSCALE", None)
        return bytes(
            imagecodecs.jpeg8_encode(
                cells, int(level or LOSSY_QUALITY), colorspace=space, outcolorspace=to, subsampling=sampling
            )
        )
    if name == "webp":
        return bytes(imagecodecs.webp_encode(cells, level, lossless=level is None))
    chunky = cells.shape[2] > 1
    return bytes(imagecodecs.lerc_encode(cells if chunky else cells[:, :, 0], level or 0.0, planar=False))
