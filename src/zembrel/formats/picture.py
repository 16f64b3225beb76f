"""Pictures: PNG, JPEG, WebP, BMP and GIF, by way of the picture and codec packages.

Sources: ISO/IEC 15948 (PNG), ISO/IEC 10918 (JPEG), RFC 9649 (WebP), GIF 89a; BMP as the picture package has
it. Their place is in files beside (see `sidecars`). Palettes are legends; names of classes go into a text of
PNG and the comment of GIF, as a legend file has them.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.formats.legendfile import parse_legend, write_legend
from zembrel.formats.picturecells import BROKEN, broken, decode, png_depth, see_through
from zembrel.formats.pngstrips import with_text
from zembrel.formats.sidecars import placed_beside
from zembrel.formats.sink import Sink
from zembrel.formats.whole import WholeRaster, only_layer, whole_sink
from zembrel.grid.frame import Frame
from zembrel.provenance import KEY, document, found
from zembrel.raster.legend import Legend, LegendEntry
from zembrel.raster.model import ALPHA, Band, Cells, Raster, has_alpha
from zembrel.reading import TRUST, readings

MOST_SAMPLES = 4_000_000_000
_NAMES = {1: ("grey",), 3: ("red", "green", "blue")}
WHITE = 255
_EXIF, _MOST_EXIF = 0x010E, 60_000  # number of the description, and letters that it may have
_LEGEND = "legend"  # key of the text that names classes

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """A picture with the place that files beside it give. Raises InputError."""
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = None  # the limit below is ours
    try:
        with warnings.catch_warnings(), Image.open(path) as picture:
            warnings.simplefilter("ignore")
            size = picture.size
            _check_size(path, *size)  # before anything asks for cells, as a palette does
            found(path, _description(picture))
            palette = None if see_through(picture) else _legend(picture)
            colours, kind, alpha = _cell_type(path, picture)
            clear = "transparency" if "transparency" in picture.info and not alpha else None
    except BROKEN as exc:
        raise broken(path, exc) from exc
    names = ("code",) if palette else _NAMES[colours]
    bands = tuple(Band(name, kind, colour="" if palette else name, legend=palette) for name in names)
    bands = (*bands, Band(ALPHA, kind, colour=ALPHA)) if alpha else bands
    placed = placed_beside(path, *size)
    return WholeRaster(path, placed.frame, bands, decode, placed.remarks, clear)


def _check_size(path: Path, columns: int, rows: int) -> None:
    """Raise InputError for more cells than are decoded at once."""
    if columns * rows * 4 > readings.most(MOST_SAMPLES):
        what, why = f"{path} claims {columns:,} x {rows:,} cells", "pictures are decoded whole"
        raise InputError(what, why, f"cut it first, or {TRUST}")


def _description(picture: Any) -> str:
    """What a picture says of how it came about."""
    text = picture.info.get(KEY)
    return str(text if text is not None else picture.getexif().get(_EXIF, ""))


def _exif() -> dict[str, Any]:
    """The same for pictures that hold such words as those of a camera (Exif 2.3, ImageDescription)."""
    from PIL import Image

    told = document(_MOST_EXIF)
    if told is None:
        return {}
    words = Image.Exif()
    words[_EXIF] = told
    return {"exif": words}


def _cell_type(path: Path, picture: Any) -> tuple[int, str, bool]:
    """Number of colours (1 or 3), cell type, and whether there is opacity.

    The picture package narrows 16-bit colour, so that of a PNG is read from its header (ISO/IEC 15948,
    section 11.2.2): bit depth and colour type.
    """
    deep = png_depth(path)
    if deep is not None and deep[0] == 16:
        return 3 if deep[1] & 2 else 1, "uint16", bool(deep[1] & 4)
    if see_through(picture):
        return 3, "uint8", True
    grey = picture.mode in ("L", "LA", "1", "P", "I;16", "I")
    deeper = picture.mode.startswith("I")
    return 1 if grey else 3, "uint16" if deeper else "uint8", picture.mode in ("LA", "RGBA")


def _legend(picture: Any) -> Legend | None:
    """The palette; one of all greys in order is none."""
    if picture.mode != "P":
        return None
    colours = np.array(picture.getpalette("RGB"), int).reshape(-1, 3)
    if (colours == np.arange(len(colours))[:, None]).all():
        return None
    text = picture.info.get(_LEGEND) or picture.info.get("comment", b"")
    text = text.decode("utf-8", "replace") if isinstance(text, bytes) else str(text)
    try:
        return parse_legend(Path("comment"), text) if text.strip() else Legend.of_table(colours)
    except InputError:  # some other text
        return Legend.of_table(colours)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a picture, by the ending of `path`. Raises UsageError for a setting out of range."""
    ending, legend, alpha = path.suffix.lower(), bands[0].legend, has_alpha(bands)
    write = {".png": _write_png, ".gif": _write_gif, ".bmp": _write_bmp}.get(ending)
    if write is not None:
        made: Callable[..., None] = write
        return whole_sink(
            frame, bands, lambda cells, valid: made(path, cells, None if alpha else valid, legend)
        )
    if ending == ".webp":
        quality = _quality(settings, None)
        return whole_sink(frame, bands, lambda cells, valid: _write_webp(path, cells, valid, quality))
    quality = _quality(settings, 90)
    return whole_sink(frame, bands, lambda cells, valid: _write_jpeg(path, cells, valid, quality or 90))


def _quality(settings: Mapping[str, str], usual: int | None) -> int | None:
    text = settings.get("quality")
    if text is None:
        return usual
    if not text.isdigit() or not 1 <= int(text) <= 100:
        raise UsageError(f"quality={text} is out of range", "it has 1 to 100", "write quality=90")
    return int(text)


def _write_png(path: Path, cells: Cells, valid: Cells | None, legend: Legend | None) -> None:
    import imagecodecs
    from PIL.PngImagePlugin import PngInfo

    told = document()
    if legend is not None and cells.dtype == np.uint8:
        text = PngInfo()
        if told is not None:
            text.add_itxt(KEY, told)
        if not legend.told_by_palette:
            text.add_itxt(_LEGEND, write_legend(legend))
        _palette_picture(cells, valid, legend).save(path, "PNG", pnginfo=text)
        return
    if valid is not None:
        opaque = np.iinfo(cells.dtype).max
        alpha = np.where(valid, opaque, 0).astype(cells.dtype)[:, :, None]
        cells = np.concatenate([np.where(valid[:, :, None], cells, 0).astype(cells.dtype), alpha], axis=2)
    path.write_bytes(
        with_text(bytes(imagecodecs.png_encode(np.ascontiguousarray(cells), level=6)), KEY, told)
    )


def _write_gif(path: Path, cells: Cells, valid: Cells | None, legend: Legend | None) -> None:
    """Codes in their palette, or greys in one of all greys."""
    shown = legend or Legend.of(LegendEntry(n, "", (n, n, n)) for n in range(256))
    picture = _palette_picture(cells, valid, shown)
    plain = legend is None or legend.told_by_palette
    comment = {} if plain or legend is None else {"comment": write_legend(legend).encode()}
    picture.save(path, "GIF", optimize=False, **comment)


def _write_bmp(path: Path, cells: Cells, valid: Cells | None, legend: Legend | None) -> None:
    from PIL import Image

    if valid is not None:
        cells = np.where(valid[:, :, None], cells, WHITE).astype(np.uint8)
    if legend is not None:
        _palette_picture(cells, None, legend).save(path, "BMP")
        return
    Image.fromarray(cells[:, :, 0] if cells.shape[2] == 1 else cells).save(path, "BMP")


def _palette_picture(cells: Cells, valid: Cells | None, legend: Legend) -> Any:
    from PIL import Image

    codes, clear = _with_clear_code(cells[:, :, 0], valid)
    picture = Image.fromarray(codes, "P")
    picture.putpalette(legend.table().ravel().tolist())
    if clear is not None:
        picture.info["transparency"] = clear
    return picture


def _with_clear_code(codes: Cells, valid: Cells | None) -> tuple[Cells, int | None]:
    """Codes in which a code that no valid cell has stands for the invalid ones. Raises RefusedError."""
    if valid is None:
        return codes, None
    free = np.flatnonzero(np.bincount(codes[valid], minlength=256) == 0)
    if not free.size:
        raise RefusedError(
            "all 256 codes are taken and some cells are invalid",
            "a palette picture says by a code of its own where nothing is",
            "use convert --rgb, or write GeoTIFF",
        )
    return np.where(valid, codes, free[-1]).astype(np.uint8), int(free[-1])


def _write_webp(path: Path, cells: Cells, valid: Cells | None, quality: int | None) -> None:
    from PIL import Image

    if cells.shape[2] < 3:
        cells = np.dstack([cells[:, :, :1]] * 3 + [cells[:, :, 1:]])
    if valid is not None and cells.shape[2] == 3:
        cells = np.dstack([np.where(valid[:, :, None], cells, 0), np.where(valid, 255, 0)]).astype(np.uint8)
    how: dict[str, Any] = {"lossless": True, "exact": True} if quality is None else {"quality": quality}
    Image.fromarray(np.ascontiguousarray(cells)).save(path, "WEBP", **how, **_exif())


def _write_jpeg(path: Path, cells: Cells, valid: Cells | None, quality: int) -> None:
    from PIL import Image

    if valid is not None:
        cells = np.where(valid[:, :, None], cells, WHITE).astype(np.uint8)
    Image.fromarray(cells[:, :, 0] if cells.shape[2] == 1 else cells).save(
        path, "JPEG", quality=quality, **_exif()
    )
