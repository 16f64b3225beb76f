"""The table of raster formats: what each is called, how it is recognised and what it can hold.

Third parties add rows by the entry-point group `zembrel.formats`: the name of the entry point is that of
the format, and its object a `Format` whose module offers what `FormatModule` asks for.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib import metadata
from typing import NamedTuple

from zembrel.errors import UsageError, nearest_name
from zembrel.raster.model import TYPES

GROUP = "zembrel.formats"
_LONGEST = 2**31 - 1


class Format(NamedTuple):
    """One format: where its code is, how it is recognised and what it can hold."""

    title: str
    module: str  # imported at first use
    endings: tuple[str, ...]
    specification: str
    magics: tuple[bytes, ...] = ()  # none: its name has to tell
    types: tuple[str, ...] = TYPES
    most_bands: int = 0  # 0: any number
    holds_place: bool = True  # in the file itself; others get a world file and .prj
    holds_crs: bool = True  # beside the place; where not, a .prj tells it
    holds_mask: bool = True
    whitens: bool = False  # whether invalid cells become white
    holds_legend: bool = False
    holds_names: bool = True  # of the classes of a legend
    holds_nodata: bool = True  # the value that stands for invalid cells
    holds_scale: bool = False  # a factor and an offset that make values of stored numbers
    holds_nodes: bool = True  # whether values stand on cells or on nodes
    longest_side: int = _LONGEST
    settings: Mapping[str, str] = {}
    nodata: float | None = None  # the one value for invalid cells, where the format fixes it
    usual_nodata: int | None = None  # for invalid cells, where a result has none of its own
    header: str = ""  # ending of a text beside it that belongs to the format
    framed: bool = False  # whether the name of a file says its frame
    inexact: tuple[str, ...] = ()  # how values of `compress` begin that change cells a little


FORMATS: dict[str, Format] = {
    "geotiff": Format(
        "GeoTIFF, cloud-optimized layout",
        "zembrel.formats.geotiff",
        (".tif", ".tiff", ".gtiff"),
        "TIFF 6.0; OGC GeoTIFF 1.1; OGC Cloud Optimized GeoTIFF 1.0",
        magics=(b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"),
        holds_legend=True,
        settings={
            "compress": "none, packbits, lzw, deflate[:1-12], zstd[:1-22], lerc[:LARGEST ERROR], "
            "jpeg[:1-100], webp[:1-100] (exact without a number); deflate:6 if not said",
            "tile": "cells along a side of a tile, a multiple of 16; 512 if not said",
            "overviews": "mean, mode, min, max, nearest or no, of single bands too: mean,qa:mode; "
            "by the kind of data if not said",
            "strip": "rows of a strip, instead of tiles and overviews",
        },
        inexact=("jpeg", "webp:", "lerc:"),
        holds_scale=True,
    ),
    "png": Format(
        "PNG picture",
        "zembrel.formats.picture",
        (".png",),
        "ISO/IEC 15948",
        magics=(b"\x89PNG\r\n\x1a\n",),
        types=("uint8", "uint16"),
        most_bands=3,
        holds_place=False,
        holds_nodes=False,
        holds_legend=True,
    ),
    "jpeg": Format(
        "JPEG picture",
        "zembrel.formats.picture",
        (".jpg", ".jpeg"),
        "ISO/IEC 10918",
        magics=(b"\xff\xd8\xff",),
        types=("uint8",),
        most_bands=3,
        holds_place=False,
        holds_nodes=False,
        holds_mask=False,
        whitens=True,
        longest_side=65_500,
        settings={"quality": "1 to 100; 90 if not said"},
    ),
    "webp": Format(
        "WebP picture",
        "zembrel.formats.picture",
        (".webp",),
        "RFC 9649",
        magics=(b"RIFF",),
        types=("uint8",),
        most_bands=3,
        holds_place=False,
        holds_nodes=False,
        longest_side=16_383,
        settings={"quality": "1 to 100; exact if not said"},
    ),
    "gif": Format(
        "GIF picture",
        "zembrel.formats.picture",
        (".gif",),
        "GIF 89a",
        magics=(b"GIF8",),
        types=("uint8",),
        most_bands=1,
        holds_place=False,
        holds_nodes=False,
        holds_legend=True,
        longest_side=65_535,
    ),
    "bmp": Format(
        "BMP picture",
        "zembrel.formats.picture",
        (".bmp",),
        "device-independent bitmap, 8 or 24 bits",
        types=("uint8",),
        most_bands=3,
        holds_place=False,
        holds_nodes=False,
        holds_mask=False,
        whitens=True,
        holds_legend=True,
        holds_names=False,
        longest_side=32_767,
    ),
    "jpeg2000": Format(
        "JPEG 2000 picture",
        "zembrel.formats.jpeg2000",
        (".jp2",),
        "ISO/IEC 15444; GeoTIFF box; OGC 05-047r3 GML box",
        magics=(b"\0\0\0\x0cjP  \r\n\x87\n",),
        types=("uint8", "uint16", "int16"),
        settings={"quality": "1 to 100 dB of signal to noise; exact if not said"},
    ),
    "npy": Format(
        "NumPy array, bands x rows x columns",
        "zembrel.formats.numpyfile",
        (".npy",),
        "NumPy Enhancement Proposal 1",
        magics=(b"\x93NUMPY",),
        holds_place=False,
        holds_nodata=False,
        holds_nodes=False,
        holds_mask=False,
    ),
    "asciigrid": Format(
        "ASCII grid",
        "zembrel.formats.asciigrid",
        (".asc",),
        "the keys ncols, nrows, xll, yll, cellsize, nodata_value, and rows of values",
        most_bands=1,
        holds_crs=False,
        holds_mask=False,
        usual_nodata=-9999,
    ),
    "npz": Format(
        "NumPy arrays in one file",
        "zembrel.formats.numpyarchive",
        (".npz",),
        "NumPy Enhancement Proposal 1, in a zip",
        holds_place=False,
        holds_nodata=False,
        holds_nodes=False,
        holds_mask=False,
    ),
    "xyz": Format(
        "XYZ columns, a line for each cell",
        "zembrel.formats.cells",
        (".xyz",),
        "columns x, y and values, by any separator; places on a lattice, in any order",
        holds_crs=False,
        holds_nodes=False,
    ),
    "csv": Format(
        "CSV table of cells",
        "zembrel.formats.cells",
        (".csv",),
        "RFC 4180; columns x, y and one for each band",
        holds_crs=False,
        holds_nodes=False,
    ),
    "matrix": Format(
        "CSV matrix of one band",
        "zembrel.formats.matrix",
        (".matrix.csv",),
        "RFC 4180; a line for each row from the north",
        most_bands=1,
        holds_place=False,
        holds_nodes=False,
    ),
    "parquet": Format(
        "Parquet table of cells",
        "zembrel.formats.parquet",
        (".parquet",),
        "Apache Parquet 2; columns x, y and one for each band, the frame in the metadata",
        magics=(b"PAR1",),
    ),
    "hgt": Format(
        "one-degree height cell",
        "zembrel.formats.hgt",
        (".hgt",),
        "NASA SRTM documentation 2.1: 1201 or 3601 nodes a side, named like N46W024",
        types=("int16",),
        most_bands=1,
        holds_mask=False,
        nodata=-32768,
        framed=True,
    ),
    "dted": Format(
        "DTED cell, level 0, 1 or 2 by its ending",
        "zembrel.formats.dted",
        (".dt0", ".dt1", ".dt2"),
        "MIL-PRF-89020B",
        magics=(b"UHL1",),
        types=("int16",),
        most_bands=1,
        holds_mask=False,
        nodata=-32767,
        framed=True,
    ),
    "rawgrid": Format(
        "raw grid with a header",
        "zembrel.formats.rawgrid",
        (".bil", ".bip", ".bsq"),
        "the keys of the .hdr beside it; layout by line, by pixel or band sequential",
        holds_crs=False,
        holds_mask=False,
        holds_nodes=False,
        settings={"byteorder": "little (if not said) or big"},
        header=".hdr",
    ),
    "floatgrid": Format(
        "binary grid with a text label",
        "zembrel.formats.floatgrid",
        (".flt",),
        "32-bit floats; the keys of an ASCII grid and byteorder in the .hdr beside it",
        types=("float32",),
        most_bands=1,
        holds_crs=False,
        holds_mask=False,
        settings={"byteorder": "little (if not said) or big"},
        usual_nodata=-9999,
        header=".hdr",
    ),
    "raw": Format(
        "raw grid without a header",
        "zembrel.formats.plainraw",
        (".r16", ".r32", ".raw"),
        "cells band by band, row by row, in a layout that is told",
        holds_place=False,
        holds_nodata=False,
        holds_mask=False,
        holds_nodes=False,
        settings={
            "byteorder": "little (if not said) or big",
            "first": "row that comes first: north (if not said) or south",
        },
    ),
    "netcdf": Format(
        "NetCDF with CF conventions, HDF5",
        "zembrel.formats.netcdf",
        (".nc", ".nc4", ".h5", ".hdf5"),
        "NetCDF-4 (HDF5), and version 3 read; Climate and Forecast Metadata Conventions 1.11",
        magics=(b"\x89HDF\r\n\x1a\n", b"CDF\x01", b"CDF\x02", b"CDF\x05"),
        holds_mask=False,
        holds_legend=True,
        settings={"compress": "none or deflate[:1-9]; deflate:4 if not said"},
        holds_scale=True,
    ),
    "zarr": Format(
        "Zarr store with CF attributes",
        "zembrel.formats.zarrstore",
        (".zarr", ".zarr.zip"),
        "Zarr 2 and 3; Climate and Forecast Metadata Conventions 1.11",
        holds_mask=False,
        holds_legend=True,
        settings={
            "version": "3 (if not said) or 2",
            "overviews": "mean, mode, min, max, nearest or no, of single bands too: mean,qa:mode",
        },
        holds_scale=True,
    ),
    "quilt": Format(
        "quilt of sheets, made by mosaic",
        "zembrel.formats.quilt",
        (".quilt.toml",),
        "our own: frame, overlap rule and sheets",
        holds_scale=True,
    ),
    "gtx": Format(
        "GTX grid of height differences",
        "zembrel.formats.gtx",
        (".gtx",),
        "NOAA NGS VDatum, .gtx",
        types=("float32",),
        most_bands=1,
        holds_mask=False,
        nodata=-88.88880157470703,  # -88.8888 in 32 bits
    ),
}


@cache
def added_formats() -> dict[str, Format]:
    """The formats that installed packages add. Raises UsageError for one that is no `Format`."""
    found: dict[str, Format] = {}
    for point in metadata.entry_points(group=GROUP):
        form = point.load()
        if not isinstance(form, Format) or point.name in FORMATS:
            raise UsageError(
                f"the installed format {point.name!r} cannot be used",
                f"{point.value} is not a new zembrel.formats.catalogue.Format",
                "update or remove the package that adds it",
            )
        found[point.name] = form
    return found


def all_formats() -> dict[str, Format]:
    """Every format by name: ours, then those that packages add."""
    return FORMATS | added_formats()


def format_named(name: str) -> Format:
    """The format called `name`. Raises UsageError, with the near miss, if there is none."""
    form = FORMATS.get(name.lower()) or added_formats().get(name.lower())
    if form is None:
        raise UsageError(
            f"there is no format {name!r}", "see zembrel formats", nearest_name(name, all_formats())
        )
    return form
