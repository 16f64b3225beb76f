"""Pictures one after the other into a film: MP4 (by PyAV), GIF or WebP."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.deliver.film.pictures import Picture
from zembrel.errors import UsageError
from zembrel.grid.pane import Pane
from zembrel.raster import kernels
from zembrel.raster.model import Block
from zembrel.raster.quantize import LOOKUP_BITS, ColourCounts, median_cut, nearest_table

ENDINGS = (".mp4", ".gif", ".webp")
FASTEST = 50  # pictures a second that players of all three formats show
_GIF_COLOURS = 255
_ENCODERS = ("libx264", "libopenh264", "mpeg4")


def check_writer(out: Path) -> None:
    """Raises UsageError for an MP4 where PyAV is not installed."""
    if out.suffix.lower() == ".mp4" and _pyav() is None:
        what, why = f"{out.name} needs PyAV", "it is not installed with Zembrel"
        raise UsageError(what, why, "run pip install 'zembrel[film]', or end it in .gif or .webp")


def picture_size(out: Path, columns: int, rows: int) -> tuple[int, int]:
    """Columns and rows of pictures in the file: even ones in an MP4, where four cells share a colour."""
    return (columns // 2 * 2, rows // 2 * 2) if out.suffix.lower() == ".mp4" else (columns, rows)


def write_film(out: Path, pictures: Iterator[Picture], rate: float, samples: Sequence[Picture]) -> int:
    """All pictures, `rate` a second, into a new file; returns how many they were.

    samples: some of them, of whose colours the palette of a GIF is made.
    """
    writer: Callable[..., int] = {".mp4": _mp4, ".gif": _gif, ".webp": _webp}[out.suffix.lower()]
    return writer(out, pictures, rate, samples)


def _pyav() -> Any:
    try:
        import av
    except ImportError:
        return None
    return av


def _mp4(out: Path, pictures: Iterator[Picture], rate: float, samples: Sequence[Picture]) -> int:
    av = _pyav()
    name = next(name for name in _ENCODERS if name in av.codecs_available)
    number = 0
    with av.open(str(out), "w", format="mp4", options={"movflags": "faststart"}) as film:
        stream = film.add_stream(name, rate=Fraction(rate).limit_denominator(1000))
        stream.pix_fmt = "yuv420p"
        for picture in pictures:
            if not number:
                stream.width, stream.height = picture_size(out, picture.shape[1], picture.shape[0])
            even = np.ascontiguousarray(picture[: stream.height, : stream.width])
            film.mux(stream.encode(av.VideoFrame.from_ndarray(even, format="rgb24")))
            number += 1
        film.mux(stream.encode(None))
    return number


def _gif(out: Path, pictures: Iterator[Picture], rate: float, samples: Sequence[Picture]) -> int:
    """With one palette for all pictures, so that still parts stay still."""
    from PIL import Image

    counts = ColourCounts()
    for sample in samples:
        cells = np.ascontiguousarray(np.moveaxis(sample, -1, 0))
        counts.note(counts.look(Pane(0, 0, *sample.shape[:2]), Block(cells)))
    palette = median_cut(counts, _GIF_COLOURS)
    table, colours = nearest_table(palette), palette.table()

    def coded(picture: Picture) -> Any:
        codes = np.empty(picture.shape[:2], np.uint8)
        cells = np.ascontiguousarray(np.moveaxis(picture, -1, 0))
        kernels.dither.plain(cells, table, LOOKUP_BITS, np.zeros((8, 8), np.float32), 0, 0, codes)
        made = Image.fromarray(codes)
        made.putpalette(colours.tobytes())
        return made

    return _with_pillow(out, map(coded, pictures), rate, "GIF", {"optimize": False, "disposal": 1})


def _webp(out: Path, pictures: Iterator[Picture], rate: float, samples: Sequence[Picture]) -> int:
    from PIL import Image

    return _with_pillow(out, map(Image.fromarray, pictures), rate, "WEBP", {"quality": 80, "method": 2})


def _with_pillow(out: Path, images: Iterator[Any], rate: float, form: str, settings: dict[str, Any]) -> int:
    """Pictures as they come: the first is told of the others."""
    counter = itertools.count(1)
    first = next(images)
    rest = (image for image in images if next(counter))
    duration = round(1000 / rate)
    first.save(out, form, save_all=True, append_images=rest, duration=duration, loop=0, **settings)
    return next(counter)
