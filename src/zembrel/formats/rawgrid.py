"""Raw grids with a header beside them: band interleaved by line, by pixel, or band sequential.

Source: the header (`.hdr`) as publicly described by many who publish grids in it: `nrows`, `ncols`, `nbands`,
`nbits`, `pixeltype` (signedint, unsignedint, float), `byteorder` (I, M or their long names), `layout`,
`skipbytes`, `bandrowbytes`, `totalrowbytes`, `bandgapbytes`, `ulxmap` and `ulymap` (the middle of the upper
left cell), `xdim`, `ydim`, `nodata`, in any case and order. The CRS is in a `.prj` beside. Cells are taken
from the file as it lies on the disk, so a window touches only its own bytes.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.formats.raw import ORDERS, RawCells, beside, order_of, raw_sink
from zembrel.formats.sink import Sink
from zembrel.formats.strided import RawLayout
from zembrel.formats.voids import void_of
from zembrel.formats.whole import only_layer
from zembrel.formats.worldfile import crs_beside
from zembrel.grid.frame import Affine, Frame
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Raster, shared_type

LAYOUTS = ("bil", "bip", "bsq")
_KINDS = {"unsignedint": "u", "signedint": "i", "int": "i", "float": "f"}
_MOST_HEADER = 65_536
_MOST_BANDS = 65_535

layers = only_layer


def open_raster(path: Path, layer: str | None) -> Raster:
    """The grid at `path`. Raises InputError without a header, or for one that does not fit the file."""
    file_handles.renew(path)
    header = _read_header(path)
    rows, columns = _whole(path, header, "nrows"), _whole(path, header, "ncols")
    bands = _whole(path, header, "nbands", 1)
    if not 1 <= bands <= _MOST_BANDS:
        raise _broken(path, f"its header says nbands {bands}")
    layout = _layout(path, header, rows, columns, bands)
    last = layout.skip + (bands - 1) * layout.band + (rows - 1) * layout.row + (columns - 1) * layout.column
    size = path.stat().st_size
    if last + layout.dtype.itemsize > size:
        due = last + layout.dtype.itemsize
        raise _broken(path, f"it has {size:,} bytes where its header makes {due:,}")
    kind = layout.dtype.newbyteorder("=").name
    named = tuple(Band(f"band{n + 1}", kind, _nodata(header, kind)) for n in range(bands))
    return RawCells(path, Frame(crs_beside(path), _affine(path, header), columns, rows), named, layout)


def _read_header(path: Path) -> dict[str, str]:
    text = file_handles.read(beside(path, ".hdr"), 0, _MOST_HEADER).decode("ascii", "replace")
    words = (line.replace("=", " ").split() for line in text.splitlines())
    return {parts[0].lower(): parts[1] for parts in words if len(parts) > 1}


def _whole(path: Path, header: Mapping[str, str], key: str, default: int | None = None) -> int:
    text = header.get(key)
    if text is None and default is not None:
        return default
    if text is None:
        raise _broken(path, f"its header lacks {key}")
    if not text.isdigit() or (int(text) < 1 and default is None) or int(text) > 2**40:
        raise _broken(path, f"its header says {key} {text}")
    return int(text)


def _layout(path: Path, header: Mapping[str, str], rows: int, columns: int, bands: int) -> RawLayout:
    bits = _whole(path, header, "nbits", 8)
    kind = _KINDS.get(header.get("pixeltype", "unsignedint").lower())
    order = ORDERS.get(header.get("byteorder", "i").lower())
    way = header.get("layout", path.suffix.lstrip(".")).lower()
    if (
        kind is None
        or order is None
        or way not in LAYOUTS
        or bits not in ((32, 64) if kind == "f" else (8, 16, 32, 64))
    ):
        said = ", ".join(
            f"{k} {header[k]}" for k in ("nbits", "pixeltype", "byteorder", "layout") if k in header
        )
        raise _broken(path, f"its header says {said or 'nothing of its layout'}")
    size = bits // 8
    if way == "bip":
        row = _whole(path, header, "totalrowbytes", columns * bands * size)
        strides = size, row, bands * size
    elif way == "bil":
        one = _whole(path, header, "bandrowbytes", columns * size)
        strides = one, _whole(path, header, "totalrowbytes", one * bands), size
    else:
        row = _whole(path, header, "bandrowbytes", columns * size)
        strides = rows * row + _whole(path, header, "bandgapbytes", 0), row, size
    return RawLayout(np.dtype(f"{order}{kind}{size}"), _whole(path, header, "skipbytes", 0), *strides)


def _affine(path: Path, header: Mapping[str, str]) -> Affine:
    """From the middle of the first cell; without one, cells count from the lower left corner."""
    keys = ("ulxmap", "ulymap", "xdim", "ydim")
    defaults = 0.0, float(_whole(path, header, "nrows") - 1), 1.0, 1.0
    try:
        x, y, across, along = (float(header.get(k, d)) for k, d in zip(keys, defaults, strict=True))
    except ValueError as exc:
        raise _broken(path, f"its header has {exc}") from exc
    if not all(map(math.isfinite, (x, y, across, along))) or min(across, along) <= 0:
        raise _broken(path, f"its header says cells of {across:g} x {along:g} from {x:g},{y:g}")
    return Affine(x, y, across, -along).shifted(Fraction(-1, 2), Fraction(-1, 2))


def _nodata(header: Mapping[str, str], kind: str) -> float | int | None:
    try:
        value = float(header.get("nodata", header.get("nodata_value", "")))
    except ValueError:
        return None
    if np.dtype(kind).kind == "f":
        return float(np.dtype(kind).type(value))
    limits = np.iinfo(kind)
    return int(value) if value.is_integer() and limits.min <= value <= limits.max else None


def _broken(path: Path, why: str) -> InputError:
    return InputError(
        f"{path} is no sound raw grid", why, "get the file and its header again, or correct them"
    )


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """A sink for the layout that the ending of `path` names. Raises UsageError for a turned frame."""
    if not frame.north_up or frame.registration == "node":
        raise UsageError(
            f"{path.name} would be {'turned' if not frame.north_up else 'on nodes'}",
            "a raw grid has cells and lies north up",
            "bring it onto such a frame first",
        )
    kind = np.dtype(order_of(settings) + shared_type(bands).str[1:])
    return raw_sink(path, frame, bands, kind, path.suffix.lower().lstrip("."))


def header_text(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> str:
    """The header beside the file at `path`."""
    way, order = path.suffix.lower().lstrip("."), order_of(settings)
    kind, a = shared_type(bands), frame.affine.shifted(Fraction(1, 2), Fraction(1, 2))
    size, count = kind.itemsize, len(bands)
    names = {"u": "UNSIGNEDINT", "i": "SIGNEDINT", "f": "FLOAT"}
    total = frame.columns * size * (1 if way == "bsq" else count)
    lines = {
        "BYTEORDER": "I" if order == "<" else "M", "LAYOUT": way.upper(), "NROWS": frame.rows,
        "NCOLS": frame.columns, "NBANDS": count, "NBITS": 8 * size, "PIXELTYPE": names[kind.kind],
        "BANDROWBYTES": frame.columns * size, "TOTALROWBYTES": total, "BANDGAPBYTES": 0,
        "ULXMAP": repr(a.x0), "ULYMAP": repr(a.y0), "XDIM": repr(a.x_col), "YDIM": repr(-a.y_row),
    }  # fmt: skip
    nodata = void_of(bands)
    more = {} if nodata is None else {"NODATA": nodata}
    return "".join(f"{key:<14} {value}\n" for key, value in (lines | more).items())
