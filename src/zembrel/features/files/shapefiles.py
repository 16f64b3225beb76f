"""Shapefiles, by way of the pyshp package: the .shp with its .shx, .dbf, .prj and .cpg.

Source: "Shapefile Technical Description" (July 1998); dBASE III. Outer rings run clockwise. Texts are
UTF-8 when written; when read, what the .cpg says, else UTF-8 or Windows 1252.
"""

from __future__ import annotations

import struct
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.files.jsontext import BATCH
from zembrel.features.files.schema import Schema, apart
from zembrel.features.files.shapefilewriting import ShapefileWriter
from zembrel.features.table import FeatureTable, Row
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


@dataclass
class Odd:
    """How many holes lie outside of any area, how many features have measures or are deleted, and whether the
    package warned of the file."""

    orphans: int = 0
    measured: int = 0
    deleted: int = 0
    warned: bool = False

    @contextmanager
    def heard(self) -> Iterator[None]:
        """Note what is warned of meanwhile."""
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            yield
        self.warned |= bool(told)

    def see(self, shapes: list[Any], rows: list[Row | None]) -> None:
        """Count in some features."""
        self.measured += sum(any(m is not None for m in getattr(shape, "m", ())) for shape in shapes)
        self.orphans += sum(sum(shape._errors.values()) for shape in shapes)
        self.deleted += sum(row is None for row in rows)

    @property
    def remarks(self) -> list[str]:
        """What is to be said of them."""
        said = [f"{self.orphans:,} holes outside of any area are taken as areas"] if self.orphans else []
        said += [f"measures (M) of {self.measured:,} features left out"] if self.measured else []
        said += [f"{self.deleted:,} deleted features left out"] if self.deleted else []
        return said + (["its headers are not true to its size"] if self.warned else [])


def is_ours(path: Path) -> bool:
    return True


def layers(path: Path) -> list[str]:
    return [path.stem]


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The features of the Shapefile at `path`, some at a time. Raises InputError if one is broken."""
    if not path.with_suffix(".dbf").is_file():
        raise InputError(
            f"{path.with_suffix('.dbf')} is missing",
            "it holds the attributes of the features",
            "put it beside the .shp",
        )
    encoding, remarks = _encoding(path)
    crs = crs_of_prj(path)
    remarks += ["there is no .prj: its CRS is unknown"] if crs is None else []
    odd, before, kept = Odd(), 0, None
    for shapes, records in _batches(path, odd):
        if kept is not None:
            yield replace(kept, crs=crs)
        kept = _part(path, before, shapes, records, encoding)
        before += len(shapes)
    kept = kept if kept is not None else FeatureTable.of([], [], None)
    yield replace(kept, crs=crs, remarks=(*odd.remarks, *remarks))


def _part(path: Path, before: int, shapes: list[Any], rows: list[Row | None], encoding: str) -> FeatureTable:
    """Shapes and their attributes as features, of which so many came before."""
    try:
        texts = _decoded([row for row in rows if row is not None], encoding)
    except UnicodeDecodeError as exc:
        raise InputError(
            f"{path.with_suffix('.dbf')} holds no {encoding}",
            f"its .cpg or its language byte says so, but {exc.reason}",
            "write the encoding into a .cpg beside it",
        ) from exc
    try:
        found = [_geometry(path, n, shape) for n, shape in enumerate(shapes, before + 1)]
    except _BROKEN as exc:
        raise _broken(path, exc) from exc
    return FeatureTable.of([g for g, row in zip(found, rows, strict=True) if row is not None], texts, None)


def _encoding(path: Path) -> tuple[str, list[str]]:
    """The encoding of the texts, and what is to be said of it; if nothing tells, UTF-8 or Windows 1252."""
    said = _code_page(path) or _language(path)
    if said is not None:
        return said, []
    import shapefile

    plain = True
    try:
        with path.with_suffix(".dbf").open("rb") as records:
            for record in shapefile.Reader(dbf=records, encoding=_BYTES).iterRecords():
                words = [word for word in record if isinstance(word, str)]
                plain &= all(_text(word, "utf-8") == word for word in words)
    except UnicodeDecodeError:
        return "cp1252", ["texts taken as Windows 1252: there is no .cpg, and they are no UTF-8"]
    except (shapefile.ShapefileException, *_BROKEN) as exc:
        raise _broken(path, exc) from exc
    return "utf-8", [] if plain else ["texts taken as UTF-8: there is no .cpg"]


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


def _text(value: Any, encoding: str) -> Any:
    """A text that stands for bytes as that in `encoding`, all else as it is. Raises UnicodeDecodeError."""
    return value.encode(_BYTES).decode(encoding) if isinstance(value, str) else value


def _decoded(rows: list[Row], encoding: str) -> list[Row]:
    """Rows whose names and texts stand for bytes as those in `encoding`. Raises UnicodeDecodeError."""
    return [{_text(name, encoding): _text(value, encoding) for name, value in row.items()} for row in rows]


def _batches(path: Path, odd: Odd) -> Iterator[tuple[list[Any], list[Row | None]]]:
    """Shapes with their attributes, some at a time; texts are bytes, a letter each; None for deleted ones."""
    import shapefile

    try:
        with path.open("rb") as shapes, path.with_suffix(".dbf").open("rb") as records:
            with odd.heard():
                reader = shapefile.Reader(shp=shapes, dbf=records, encoding=_BYTES)
            names = apart([entry[0] for entry in reader.fields if entry[0] != "DeletionFlag"])
            shapefile.VERBOSE = False  # what it would say on stderr is a remark
            ones, others = reader.iterShapes(), reader.iterRecords(deleted_as_None=True)
            while True:
                with odd.heard():
                    batch, held = list(islice(ones, BATCH)), list(islice(others, BATCH))
                if len(held) != len(batch):
                    raise _apart(path)
                if not batch:
                    return
                rows = [
                    None if r is None else {n: v if v != "" else None for n, v in zip(names, r, strict=True)}
                    for r in held
                ]
                odd.see(batch, rows)
                yield batch, rows
    except (shapefile.ShapefileException, *_BROKEN) as exc:
        raise _broken(path, exc) from exc


def _broken(path: Path, why: Exception) -> InputError:
    return InputError(f"{path} is broken", f"{why}".splitlines()[0] or type(why).__name__, "get it again")


def _apart(path: Path) -> InputError:
    return InputError(
        f"{path} and its .dbf do not belong together", "one has more features than the other", "get both"
    )


def _geometry(path: Path, number: int, shape: Any) -> shapely.Geometry | None:
    from shapely.geometry import shape as made

    kind = shape.shapeType
    if kind == 0:
        return None
    if kind == 31:
        raise InputError(
            f"{path} holds a multipatch", f"feature {number} is a body, no area", "convert it first"
        )
    try:
        found = made(shape.__geo_interface__)
    except shapely.errors.ShapelyError as exc:
        raise _broken(path, ValueError(f"feature {number} makes no geometry: {exc}")) from exc
    return _raised(found, shape) if 10 < kind < 20 else found


def _raised(flat: shapely.Geometry, shape: Any) -> shapely.Geometry:
    """`flat` with the heights of `shape`, whose points are the same, though rings may be in another order."""
    heights: dict[tuple[float, float], list[float]] = {}
    for (x, y, *_), z in zip(shape.points, shape.z, strict=True):
        heights.setdefault((x, y), []).append(z)

    def lifted(points: Any) -> Any:
        stacks = {place: iter(values) for place, values in heights.items()}
        last = {place: values[-1] for place, values in heights.items()}
        places = map(tuple, points[:, :2].tolist())  # NaN, of a broken file, is no place that has a height
        found = [next(stacks.get(place, iter(())), last.get(place, np.nan)) for place in places]
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
