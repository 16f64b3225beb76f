"""Raster formats: one explicit table, and the doors to open and to make a file of any of them."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple, Protocol, cast

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.formats.handles import cannot_read
from zembrel.formats.sink import Sink
from zembrel.grid.frame import Frame
from zembrel.raster.model import Band, Raster


class Format(NamedTuple):
    """One format: where its code is, how it is recognised and what it can hold."""

    title: str
    module: str  # imported at first use
    endings: tuple[str, ...]
    magics: tuple[bytes, ...]
    types: tuple[str, ...]
    most_bands: int  # 0: any number
    holds_place: bool  # in the file itself; others get a world file and .prj
    holds_mask: bool
    holds_legend: bool
    longest_side: int
    settings: Mapping[str, str]
    specification: str
    nodata: float | None = None  # the one value for invalid cells, where the format fixes it
    usual_nodata: int | None = None  # for invalid cells, where a result has none of its own
    holds_crs: bool = True  # beside the place; where not, a .prj tells it
    header: str = ""  # ending of a text beside it that belongs to the format
    inexact: tuple[str, ...] = ()  # how values of `compress` begin that change cells a little


_ALL = ("uint8", "int8", "uint16", "int16", "uint32", "int32", "uint64", "int64", "float32", "float64")
FORMATS: dict[str, Format] = {
    "geotiff": Format(
        "GeoTIFF, cloud-optimized layout",
        "zembrel.formats.geotiff",
        (".tif", ".tiff", ".gtiff"),
        (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"),
        _ALL,
        0,
        True,
        True,
        True,
        2**31 - 1,
        {
            "compress": "none, packbits, lzw, deflate[:1-12], zstd[:1-22], lerc[:LARGEST ERROR], "
            "jpeg[:1-100], webp[:1-100] (exact without a number); deflate:6 if not said",
            "tile": "cells along a side of a tile, a multiple of 16; 512 if not said",
            "overviews": "mean, mode, nearest or no; by the kind of data if not said",
            "strip": "rows of a strip, instead of tiles and overviews",
        },
        "TIFF 6.0; OGC GeoTIFF 1.1; OGC Cloud Optimized GeoTIFF 1.0",
        inexact=("jpeg", "webp:", "lerc:"),
    ),
    "png": Format(
        "PNG picture",
        "zembrel.formats.picture",
        (".png",),
        (b"\x89PNG\r\n\x1a\n",),
        ("uint8", "uint16"),
        3,
        False,
        True,
        True,
        2**31 - 1,
        {},
        "ISO/IEC 15948",
    ),
    "jpeg": Format(
        "JPEG picture",
        "zembrel.formats.picture",
        (".jpg", ".jpeg"),
        (b"\xff\xd8\xff",),
        ("uint8",),
        3,
        False,
        False,
        False,
        65_500,
        {"quality": "1 to 100; 90 if not said"},
        "ISO/IEC 10918",
    ),
    "npy": Format(
        "NumPy array, bands x rows x columns",
        "zembrel.formats.numpyfile",
        (".npy",),
        (b"\x93NUMPY",),
        _ALL,
        0,
        False,
        False,
        False,
        2**31 - 1,
        {},
        "NumPy Enhancement Proposal 1",
    ),
    "asciigrid": Format(
        "ASCII grid",
        "zembrel.formats.asciigrid",
        (".asc",),
        (),  # keys come in any order: its name has to tell
        _ALL,
        1,
        True,
        True,
        False,
        2**31 - 1,
        {},
        "the keys ncols, nrows, xll, yll, cellsize, nodata_value, and rows of values",
        usual_nodata=-9999,
        holds_crs=False,
    ),
    "rawgrid": Format(
        "raw grid with a header",
        "zembrel.formats.rawgrid",
        (".bil", ".bip", ".bsq"),
        (),
        _ALL,
        0,
        True,
        True,
        False,
        2**31 - 1,
        {"byteorder": "little (if not said) or big"},
        "the keys of the .hdr beside it; layout by line, by pixel or band sequential",
        holds_crs=False,
        header=".hdr",
    ),
    "gtx": Format(
        "GTX grid of height differences",
        "zembrel.formats.gtx",
        (".gtx",),
        (),  # its first bytes are a latitude: its name has to tell
        ("float32",),
        1,
        True,
        True,
        False,
        2**31 - 1,
        {},
        "NOAA NGS VDatum, .gtx",
        nodata=-88.88880157470703,  # -88.8888 in 32 bits
    ),
}


class FormatModule(Protocol):
    """What the module of a format offers."""

    def open_raster(self, path: Path, layer: str | None) -> Raster: ...
    def layers(self, path: Path) -> list[str]: ...
    def make_sink(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]
    ) -> Sink: ...


class HasHeader(Protocol):
    """What the module of a format with a header beside the file offers as well."""

    def header_text(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]
    ) -> str: ...


def load(name: str) -> FormatModule:
    """The module of format `name`."""
    return cast(FormatModule, importlib.import_module(FORMATS[name].module))


def header_beside(name: str, out: Path, view: Raster, settings: Mapping[str, str]) -> dict[Path, str]:
    """Place and text of the header that belongs beside a file of format `name`, if there is one."""
    ending = FORMATS[name].header
    if not ending:
        return {}
    module = cast(HasHeader, load(name))
    return {out.with_suffix(ending): module.header_text(out, view.frame, view.bands, settings)}


def identify(path: Path) -> str:
    """Name of the format of the file at `path`, by its first bytes.

    Raises InputError if it cannot be read or is of no known format.
    """
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except OSError as exc:
        raise cannot_read(path, exc) from exc
    for name, form in FORMATS.items():
        if head.startswith(form.magics) or (not form.magics and path.suffix.lower() in form.endings):
            return name
    known = ", ".join(form.title for form in FORMATS.values())
    if path.suffix.lower() in {ending for form in FORMATS.values() for ending in form.endings}:
        what = "is empty" if not head else f"begins with {head[:8]!r}"
        raise InputError(
            f"{path} is not what its name says", f"it {what}", "check how it was made, or leave it out"
        )
    raise InputError(f"{path} is of no format Zembrel reads", f"it reads {known}", "see zembrel formats")


def open_raster(path: Path, layer: str | None = None) -> Raster:
    """The raster in the file at `path`. Raises InputError."""
    return load(identify(path)).open_raster(path, layer)


def readable(path: Path) -> bool:
    """Whether the name of `path` looks like a raster of a known format."""
    return format_of_name(path) is not None


def format_of_name(path: Path) -> str | None:
    """Name of the format that the ending of `path` says, or None."""
    ending = path.suffix.lower()
    return next((name for name, form in FORMATS.items() if ending in form.endings), None)


def choose_format(out: Path, asked: str | None) -> str:
    """The format of a result: as asked, else by the ending of `out`. Raises UsageError."""
    if asked is not None:
        if asked.lower() not in FORMATS:
            raise UsageError(
                f"there is no format {asked!r}", "see zembrel formats", nearest_name(asked, FORMATS)
            )
        return asked.lower()
    name = format_of_name(out)
    if name is None:
        raise UsageError(
            f"the name {out.name} does not say which format to write",
            f"its ending is {out.suffix!r}",
            "end it in .tif, .png, .jpg, .npy, .asc, .bil or .gtx, or add --format",
        )
    return name


def check_settings(name: str, settings: Mapping[str, str]) -> None:
    """Raise UsageError, with the near miss, for a setting that format `name` does not have."""
    for key in settings:
        if key not in FORMATS[name].settings:
            raise UsageError(
                f"{FORMATS[name].title} has no setting {key!r}",
                f"see zembrel formats {name}",
                nearest_name(key, FORMATS[name].settings) if FORMATS[name].settings else "leave it out",
            )
