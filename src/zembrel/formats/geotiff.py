"""The GeoTIFF row of the table of formats."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zembrel.errors import UsageError
from zembrel.formats.sink import Sink
from zembrel.formats.tiff.codecs import parse_compression
from zembrel.formats.tiff.encoding import Options
from zembrel.formats.tiff.sink import tiff_sink
from zembrel.formats.tiff.tiffopening import layers_of, open_tiff
from zembrel.grid.frame import Frame
from zembrel.handles import Readable
from zembrel.raster.model import Band, Raster


def open_raster(path: Readable, layer: str | None) -> Raster:
    """The image `layer` of a TIFF, default the first. Raises InputError."""
    return open_tiff(path, layer)


def layers(path: Readable) -> list[str]:
    return layers_of(path)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for a cloud-optimized GeoTIFF. Raises UsageError for a setting out of range."""
    return tiff_sink(path, frame, bands, parse_options(settings))


def parse_options(settings: Mapping[str, str]) -> Options:
    """Settings as typed. Raises UsageError."""
    codec, level = parse_compression(settings.get("compress", "deflate"))
    tile, strip = settings.get("tile", "512"), settings.get("strip", "0")
    if not tile.isdigit() or int(tile) % 16 or not 16 <= int(tile) <= 8192:
        raise UsageError(
            f"tile={tile} is no tile size", "TIFF wants multiples of 16, up to 8192 here", "write tile=512"
        )
    if not strip.isdigit() or int(strip) > 65_535:
        raise UsageError(f"strip={strip} is no number of rows", "strips have 1 to 65,535", "write strip=64")
    overviews = settings.get("overviews", "auto")
    if int(strip) and ("tile" in settings or settings.get("overviews", "no") != "no"):
        raise UsageError(
            "strips have neither tiles nor overviews",
            "strip= is for readers that know nothing else",
            "leave tile= and overviews= out",
        )
    return Options(codec, level, int(tile), overviews, int(strip))
