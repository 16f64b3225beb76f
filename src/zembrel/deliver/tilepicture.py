"""Tiles as pictures: of one format, or each of the one that suits it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import imagecodecs
import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff.packing import packed
from zembrel.raster.heightcode import HeightCode
from zembrel.raster.legend import Legend

Cells = npt.NDArray[Any]
MIXED = "mixed"
FORMATS = ("auto", "png", "jpeg", "webp", MIXED)
_WHITE = (255, 255, 255)
_FEW = 256  # colours that fit a palette
_EACH = 4  # of so many rows and columns one is looked at first, to see that the colours are too many


@dataclass(frozen=True)
class TilePicture:
    """How cells become the bytes of a tile.

    format: png, with a palette where the colours are few, jpeg, webp, or `mixed`: JPEG of tiles that are
    opaque and of many colours, else PNG; quality: of JPEG and WebP, 1 to 100; legend: of cells that are
    codes; heights: how they become cells of PNG; onto: the colour that cells which are not opaque are laid
    on, else they keep their opacity, and become white in JPEG.
    """

    format: str = "png"
    quality: int = 85
    legend: Legend | None = None
    heights: HeightCode | None = None
    onto: tuple[int, int, int] | None = None

    def encode(self, cells: Cells, valid: Cells | None) -> tuple[bytes, str] | None:
        """The bytes of a tile and their format; None if nothing in it is valid.

        cells: (1, 3 or 4, rows, columns) of bytes, or one band of heights; valid: (rows, columns) or None.
        """
        if valid is not None:
            if not valid.any():
                return None
            valid = None if valid.all() else valid
        if self.heights is not None:
            return _png(_rows(self.heights.coded(cells[0], valid))), "png"
        if cells.shape[0] == 4:
            if not cells[3].any():
                return None
            if valid is None and (cells[3] == 255).all():
                cells = cells[:3]
        if self.legend is not None:
            return self._of_codes(cells[0], valid), "png"
        kind = self.format
        if self.onto is not None or kind == "jpeg":
            cells, valid = _laid_on(cells, valid, self.onto or _WHITE), None
        few = _palette(cells, valid) if kind in (MIXED, "png") else None
        if few is not None:
            return few, "png"
        if kind == MIXED:
            kind = "jpeg" if valid is None and cells.shape[0] != 4 else "png"
        if kind == "jpeg":
            return bytes(imagecodecs.jpeg8_encode(_rows(cells), level=self.quality)), "jpeg"
        seen = _with_opacity(cells, valid)
        if kind == "webp":
            seen = seen if len(seen) >= 3 else np.repeat(seen[:1], 3, axis=0)
            return bytes(imagecodecs.webp_encode(_rows(seen), level=self.quality, lossless=False)), "webp"
        return _png(_rows(seen)), "png"

    def _of_codes(self, codes: Cells, valid: Cells | None) -> bytes:
        assert self.legend is not None
        colours = self.legend.table()
        clear = None
        if valid is not None:
            used = np.zeros(256, bool)
            used[codes[valid]] = True
            if used.all():
                return _png(_rows(_with_opacity(np.moveaxis(colours[codes], -1, 0), valid)))
            clear = int(np.flatnonzero(~used)[-1])
            codes = np.where(valid, codes, clear).astype(np.uint8)
        return _palette_png(codes, colours, {} if clear is None else {clear: 0})


def _rows(cells: Cells) -> Cells:
    """(rows, columns, bands), or (rows, columns) of one band, in one piece."""
    if len(cells) == 1:
        return np.ascontiguousarray(cells[0])
    return packed(cells, cells.shape[1:], differences=False)


def _laid_on(cells: Cells, valid: Cells | None, colour: tuple[int, int, int]) -> Cells:
    """Opaque cells: those that are not are laid on a colour; grey becomes red, green and blue then."""
    if valid is None and len(cells) != 4:
        return cells
    share = cells[3] / 255 if len(cells) == 4 else np.ones(cells.shape[1:])
    share = share if valid is None else np.where(valid, share, 0.0)
    colours = cells[:3] if len(cells) >= 3 else np.repeat(cells[:1], 3, axis=0)
    behind = np.reshape(colour, (3, 1, 1))
    return np.floor(colours * share + behind * (1 - share) + 0.5).astype(np.uint8)


def _with_opacity(cells: Cells, valid: Cells | None) -> Cells:
    """Colours and opacity where something is not valid; grey becomes red, green and blue then."""
    if valid is None:
        return cells
    if cells.shape[0] == 4:
        return np.where(valid, cells, 0).astype(np.uint8)
    colours = cells if len(cells) == 3 else np.repeat(cells[:1], 3, axis=0)
    alpha = np.where(valid, 255, 0).astype(np.uint8)[None]
    return np.concatenate([np.where(valid, colours, 0).astype(np.uint8), alpha])


def _packed(cells: Cells, valid: Cells | None) -> Cells:
    """A number for each cell's colour and opacity."""
    seen = _with_opacity(cells, valid)
    if len(seen) == 1:
        seen = np.repeat(seen, 3, axis=0)
    rest = seen[3].astype(np.uint32) if len(seen) == 4 else np.uint32(255)
    packed: Cells = (seen[0].astype(np.uint32) << 24) | (seen[1].astype(np.uint32) << 16)
    packed |= (seen[2].astype(np.uint32) << 8) | rest
    return packed


def _palette(cells: Cells, valid: Cells | None) -> bytes | None:
    """A PNG with a palette, if the colours are few."""
    some = (..., slice(None, None, _EACH), slice(None, None, _EACH))
    seen = np.sort(_packed(cells[some], None if valid is None else valid[some]), axis=None)
    if np.count_nonzero(seen[1:] != seen[:-1]) >= _FEW:
        return None
    packed = _packed(cells, valid)
    colours, codes = np.unique(packed, return_inverse=True)
    if colours.size > _FEW:
        return None
    table = np.zeros((256, 3), np.uint8)
    table[: colours.size] = np.stack([colours >> 24, colours >> 16 & 255, colours >> 8 & 255], axis=1)
    opacity = {n: int(c & 255) for n, c in enumerate(colours.tolist()) if c & 255 < 255}
    return _palette_png(codes.reshape(packed.shape).astype(np.uint8), table, opacity)


def _palette_png(codes: Cells, colours: Cells, opacity: dict[int, int]) -> bytes:
    """Codes of a palette of (256, 3) colours, all opaque but those named."""
    import io

    from PIL import Image

    picture = Image.fromarray(np.ascontiguousarray(codes))
    picture.putpalette(colours[: int(codes.max()) + 1].tobytes())
    held = io.BytesIO()
    clear = {}
    if opacity:
        clear["transparency"] = bytes(opacity.get(n, 255) for n in range(int(codes.max()) + 1))
    picture.save(held, "PNG", compress_level=6, **clear)
    return held.getvalue()


def _png(cells: Cells) -> bytes:
    return bytes(imagecodecs.png_encode(np.ascontiguousarray(cells), level=5))
