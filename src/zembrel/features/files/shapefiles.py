"""Shapefiles, by way of the pyshp package: the .shp with its .shx, .dbf, .prj and .cpg.

Source: "Shapefile Technical Description" (July 1998); dBASE III. Outer rings run clockwise. Texts are
UTF-8 when written; when read, what the .cpg says, else UTF-8 or Windows 1252.
"""

from __future__ import annotations

import struct
import warnings
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.files.schema import Schema, apart
from zembrel.features.files.shapefilewriting import ShapefileWriter
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.text import read_crs
from zembrel.reading import readings

_LANGUAGES = {  # bytes of a .dbf; 0x57, "ANSI", stands for whatever the system had, and tells nothing
    0x01: "cp437", 0x02: "cp850", 0x03: "cp1252", 0x08: "cp865", 0x09: "cp437", 0x0A: "cp850", 0x0B: "cp437",
    0x0D: "cp437", 0x0E: "cp850", 0x0F: "cp437", 0x10: "cp850", 0x11: "cp437", 0x12: "cp850", 0x13: "cp932",
    0x14: "cp850", 0x15: "cp437", 0x16: "cp850", 0x17: "cp865", 0x18: "cp437", 0x19: "cp437", 0x1A: "cp850",
    0x1B: "cp437", 0x1C: "cp863", 0x1D: "cp850", 0x1F: "cp852", 0x22: "cp852", 0x23: "cp852", 0x24: "cp860",
    0x25: "cp850", 0x26: "cp866", 0x37: "cp850", 0x40: "cp852", 0x4D: "cp936", 0x4E: "cp949", 0x4F: "cp950",
    0x50: "cp874", 0x58: "cp1252", 0x59: "cp1252", 0x64: "cp852", 0x65: "cp866", 0x66: "cp865",
    0x67: "cp861", 0x6A: "cp737", 0x6B: "cp857", 0x6C: "cp863", 0x78: "cp950", 0x79: "cp949", 0x7A: "cp936",
    0x7B: "cp932", 0x7C: "cp874", 0x7D: "cp1255", 0x7E: "cp1256", 0x86: "cp737", 0x87: "cp852",
    0x88: "cp857", 0xC8: "cp1250", 0xC9: "cp1251", 0xCA: "cp1254", 0xCB: "cp1253", 0xCC: "cp1257",
}  # fmt: skip
_BYTES = "latin-1"
_BROKEN = (struct.error, OSError, ValueError, LookupError, EOFError, TypeError, OverflowError)
_CODE_PAGES = {"88591": "latin-1", "1252": "cp1252", "utf8": "utf-8", "utf-8": "utf-8", "850": "cp850"}


class Odd(NamedTuple):
    """How many holes lie outside of any area, and how many features have measures or are deleted."""

    orphans: int
    measured: int
    deleted: int


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    return [path.stem]


def read(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the Shapefile at `path`. Raises InputError if a part is missing or broken."""
    remarks = []
    said = _code_page(path) or _language(path)
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        geometries, raw, odd = _parts(path)
    remarks += [f"{odd.orphans:,} holes outside of any area are taken as areas"] if odd.orphans else []
    remarks += [f"measures (M) of {odd.measured:,} features left out"] if odd.measured else []
    remarks += [f"{odd.deleted:,} deleted features left out"] if odd.deleted else []
    remarks += ["its headers are not true to its size"] if told else []
    try:
        rows = _decoded(raw, said or "utf-8")
        if said is None and rows != raw:
            remarks.append("texts taken as UTF-8: there is no .cpg")
    except UnicodeDecodeError as exc:
        if said is not None:
            raise InputError(
                f"{path.with_suffix('.dbf')} holds no {said}",
                f"its .cpg or its language byte says so, but {exc.reason}",
                "write the encoding into a .cpg beside it",
            ) from exc
        rows = _decoded(raw, "cp1252")
        remarks.append("texts taken as Windows 1252: there is no .cpg, and they are no UTF-8")
    crs = crs_of_prj(path)
    if crs is None:
        remarks.append("there is no .prj: its CRS is unknown")
    return FeatureTable.of(geometries, rows, crs, *remarks)


def _language(path: Path) -> str | None:
    """The encoding that the language byte of the .dbf (dBASE, byte 29) tells, if it tells one."""
    try:
        with path.with_suffix(".dbf").open("rb") as file:
            head = file.read(30)
    except OSError:
        return None
    return _LANGUAGES.get(head[29]) if len(head) == 30 else None


def _code_page(path: Path) -> str | None:
    import codecs

    beside = path.with_suffix(".cpg")
    if not beside.is_file():
        return None
    said = readings.note(beside).read_text("latin-1").strip().lower()
    plain = said.removeprefix("ansi").removeprefix("oem").removeprefix("iso").strip(" -_")
    for name in (_CODE_PAGES.get(plain.replace("-", "").replace(" ", "")), said, f"cp{plain}", f"iso{plain}"):
        try:
            if name:
                return codecs.lookup(name).name
        except (LookupError, ValueError):
            continue
    raise InputError(
        f"{beside} names {said!r}", "no encoding is called so", "write UTF-8 or another name into it"
    )


def _decoded(rows: list[dict[str, Any]], encoding: str) -> list[dict[str, Any]]:
    """Rows whose texts stand for bytes as those in `encoding`. Raises UnicodeDecodeError."""

    def text(value: Any) -> Any:
        return value.encode(_BYTES).decode(encoding) if isinstance(value, str) else value

    return [{text(name): text(value) for name, value in row.items()} for row in rows]


def _parts(path: Path) -> tuple[list[Any], list[dict[str, Any]], Odd]:
    """Geometries, rows whose texts are bytes, a letter each, and what is to be said about them."""
    import shapefile

    table = path.with_suffix(".dbf")
    if not table.is_file():
        raise InputError(
            f"{table} is missing", "it holds the attributes of the features", "put it beside the .shp"
        )
    try:
        with path.open("rb") as shapes, table.open("rb") as records:
            reader = shapefile.Reader(shp=shapes, dbf=records, encoding=_BYTES)
            names = apart([entry[0] for entry in reader.fields if entry[0] != "DeletionFlag"])
            shapefile.VERBOSE = False  # what it would say on stderr is a remark
            shapes_read = list(reader.iterShapes())
            geometries = [_geometry(path, n, shape) for n, shape in enumerate(shapes_read, 1)]
            measured = sum(any(m is not None for m in getattr(shape, "m", ())) for shape in shapes_read)
            orphans = sum(sum(shape._errors.values()) for shape in shapes_read)
            records_read = list(reader.iterRecords(deleted_as_None=True))
            rows = [
                None if r is None else {n: v if v != "" else None for n, v in zip(names, r, strict=True)}
                for r in records_read
            ]
    except (shapefile.ShapefileException, *_BROKEN) as exc:
        raise InputError(
            f"{path} is broken", f"{exc}".splitlines()[0] or type(exc).__name__, "get it again"
        ) from exc
    if len(geometries) != len(rows):
        raise InputError(
            f"{path} and its .dbf do not belong together",
            f"{len(geometries):,} shapes and {len(rows):,} rows of attributes",
            "get both again",
        )
    kept = [(geometry, row) for geometry, row in zip(geometries, rows, strict=True) if row is not None]
    odd = Odd(orphans, measured, len(rows) - len(kept))
    return [geometry for geometry, _ in kept], [row for _, row in kept], odd


def _geometry(path: Path, number: int, shape: Any) -> shapely.Geometry | None:
    from shapely.geometry import shape as made

    kind = shape.shapeType
    if kind == 0:
        return None
    if kind == 31:
        raise InputError(
            f"{path} holds a multipatch", f"feature {number} is a body, no area", "convert it first"
        )
    found = made(shape.__geo_interface__)
    return _raised(found, shape) if 10 < kind < 20 else found


def _raised(flat: shapely.Geometry, shape: Any) -> shapely.Geometry:
    """`flat` with the heights of `shape`, whose points are the same, though rings may be in another order."""
    heights: dict[tuple[float, float], list[float]] = {}
    for (x, y, *_), z in zip(shape.points, shape.z, strict=True):
        heights.setdefault((x, y), []).append(z)

    def lifted(points: Any) -> Any:
        stacks = {place: iter(values) for place, values in heights.items()}
        last = {place: values[-1] for place, values in heights.items()}
        found = [next(stacks[x, y], last[x, y]) for x, y in points[:, :2].tolist()]
        return np.column_stack([points[:, :2], found])

    return shapely.transform(shapely.force_3d(flat), lifted, include_z=True)


def crs_of_prj(path: Path) -> CRS | None:
    """The CRS of the .prj beside `path`, or None if there is none. Raises InputError."""
    beside = path.with_suffix(".prj")
    if not beside.is_file():
        return None
    text = readings.note(beside).read_text("utf-8", errors="replace").strip()
    return read_crs(text) if text else None


def make_writer(path: Path, schema: Schema) -> ShapefileWriter:
    """Raises RefusedError for geometries of several kinds."""
    return ShapefileWriter(path, schema)
