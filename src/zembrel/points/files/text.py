"""Text of points: a point a line, columns by a header line or as the user says.

Separators are commas, semicolons, tabs or any white space; lines that begin with # are comments, and a first
line of one number, the count, is skipped.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.text import write_crs
from zembrel.points.files import Reading
from zembrel.points.files.columns import (
    SKIPPED,
    Steps,
    block_of,
    check_place,
    fields_told,
    kind_told,
    layout_for,
    meant,
    narrowest,
    read_fields_told,
    unheld,
)
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import Cloud, Fields, Part, PointBlock, PointSource
from zembrel.points.records import ExtraField, Values
from zembrel.points.sink import PointSink

_PIECE, _HEAD = 1 << 23, 1 << 16
_USUAL = ("x", "y", "z")
_ALONE = (".pts", ".txt")  # endings of no other format
_TELLING = ("intensity", "class", "return", "returns", "gps_time", "source", "scan_angle")
_COMMAS = re.compile(r"-?\d+,\d+")
_CHUNK = 100_000
_FIELDS = "# fields "  # of a line that tells how extra bytes are stored


class _Shape(NamedTuple):
    """How the lines are written: separator (a blank for white space), columns, first byte of the points."""

    separator: str
    names: tuple[str, ...]
    begin: int
    comma: bool = False  # whether fractions follow a comma
    fields: Mapping[str, ExtraField] = {}


def is_ours(path: Path) -> bool:
    """Whether a text is one of points, and no grid or features that are written so too.

    Its ending says so, or its header names x, y and z and something that only points have. Else --columns,
    or a verb for points, makes it points.
    """
    try:
        shape = _shape(path, None)
    except (InputError, UsageError, OSError):
        return False
    if path.suffix.lower() in _ALONE:
        return len(shape.names) >= 3
    return set(_USUAL) <= set(shape.names) and bool(set(_TELLING) & set(shape.names))


def open_points(path: Path, reading: Reading) -> PointSource:
    """The text at `path`; read once to see how far and how fine its points are. Raises InputError."""
    shape = _shape(path, reading.columns)
    check_place(shape.names, path)
    pieces, steps, kinds = [], Steps(path), dict.fromkeys(shape.names, np.dtype(np.int8))
    for begin, end in _pieces(path, shape.begin):
        columns = _columns(path, shape, begin, end)
        if len(columns["x"]):
            pieces.append((begin, end, len(columns["x"])))
        for axis, name in enumerate("xyz"):
            steps.look(axis, columns[name])
        for name, values in columns.items():
            kinds[name] = np.promote_types(kinds[name], narrowest(values))
    layout = layout_for({name: kind for name, kind in kinds.items() if name != SKIPPED}, shape.fields)
    bounds = (*steps.low, *steps.high) if pieces else None
    cloud = Cloud(layout, steps.scaling(), None, sum(p[2] for p in pieces), bounds)  # type: ignore[arg-type]
    return TextSource(path, shape, cloud, tuple(pieces))


@dataclass(frozen=True, eq=False)
class TextSource:
    """Points of a text; parts are pieces of whole lines."""

    path: Path
    shape: _Shape
    cloud: Cloud
    pieces: tuple[tuple[int, int, int], ...]

    @property
    def parts(self) -> tuple[Part, ...]:
        return tuple(Part(n, count) for n, (_, _, count) in enumerate(self.pieces))

    def read(self, part: Part, fields: Fields | None = None) -> PointBlock:
        begin, end, _ = self.pieces[part.number]
        columns = _columns(self.path, self.shape, begin, end)
        return block_of(columns, self.cloud.layout, self.cloud.scaling, self.path)


def _shape(path: Path, asked: tuple[str, ...] | None) -> _Shape:
    with path.open("rb") as file:
        head = file.read(_HEAD)
    begin = 3 if head.startswith(b"\xef\xbb\xbf") else 0
    names, told = tuple[str, ...](), dict[str, ExtraField]()
    while begin < len(head):
        end = head.find(b"\n", begin)
        end = len(head) if end < 0 else end
        line = head[begin:end].decode("utf-8", "replace").strip()
        if line.startswith(_FIELDS):
            told = read_fields_told(line.removeprefix(_FIELDS))
        if line and not line.startswith("#"):
            separator = _separator(line)
            words = line.split(None if separator == " " else separator)
            comma = separator != "," and any(_COMMAS.fullmatch(word.strip()) for word in words)
            numbers = all(_is_number(word.replace(",", ".") if comma else word) for word in words)
            if numbers and len(words) > 1:
                return _Shape(separator, _named(path, asked, names, len(words), told), begin, comma, told)
            if not numbers and names:
                break
            names = tuple(words) if not numbers else names
        begin = end + 1
    raise InputError(
        f"{path} holds no points",
        f"it begins {head[:40].decode('utf-8', 'replace')!r}",
        "check what the file is",
    )


def _separator(line: str) -> str:
    """What parts the columns of a line: a comma only where it ends no whole number of all words."""
    for sign in ";\t":
        if sign in line:
            return sign
    words = line.split()
    commas = len(words) > 1 and all(_COMMAS.fullmatch(word) or word.lstrip("-").isdigit() for word in words)
    return "," if "," in line and not commas else " "


def _named(
    path: Path,
    asked: tuple[str, ...] | None,
    header: tuple[str, ...],
    width: int,
    told: Mapping[str, ExtraField],
) -> tuple[str, ...]:
    given = asked or header or _USUAL
    if len(given) > width:
        raise InputError(
            f"{path} has {width} columns",
            f"{len(given)} are named: {', '.join(given)}",
            "name as many as there are",
        )
    return meant([*given, *[SKIPPED] * (width - len(given))], {} if asked else told)


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return word.strip().lower() in ("", "nan", "na")
    return True


def _pieces(path: Path, begin: int) -> Iterator[tuple[int, int]]:
    """First and last byte of pieces of whole lines."""
    size = path.stat().st_size
    with path.open("rb") as file:
        while begin < size:
            file.seek(min(begin + _PIECE, size))
            file.readline()
            end = file.tell()
            yield begin, end
            begin = end


def _columns(path: Path, shape: _Shape, begin: int, end: int) -> dict[str, Values]:
    """Columns of the lines between two bytes. Raises InputError for a line that is no point."""
    import pyarrow
    from pyarrow import csv

    with path.open("rb") as file:
        file.seek(begin)
        data = file.read(end - begin)
    if shape.separator == " " or b"#" in data:
        lines = (line for line in data.splitlines() if line.strip() and not line.lstrip().startswith(b"#"))
        data = b"\n".join(b" ".join(line.split()) if shape.separator == " " else line for line in lines)
    if shape.comma:
        data = data.replace(b",", b".")
    if not data.strip():
        return {name: np.zeros(0) for name in dict.fromkeys(shape.names)}
    columns = [f"{n}" for n in range(len(shape.names))]
    kept = [n for n, name in enumerate(shape.names) if name != SKIPPED]
    kinds = {n: kind for n in kept if (kind := kind_told(shape.names[n], shape.fields)) is not None}
    try:
        table = csv.read_csv(
            io.BytesIO(data),
            csv.ReadOptions(column_names=columns, use_threads=False),
            csv.ParseOptions(delimiter=shape.separator),
            csv.ConvertOptions(
                include_columns=[columns[n] for n in kept],
                column_types={columns[n]: pyarrow.from_numpy_dtype(kinds[n]) for n in kinds},
                null_values=["", "nan", "NaN", "NA", "na"],
            ),
        )
        return {shape.names[n]: _numbers(table.column(columns[n])) for n in kept}
    except (pyarrow.ArrowInvalid, ValueError) as exc:
        why = str(exc).partition("\n")[0]
        raise InputError(
            f"{path} has a line that is no point",
            f"behind byte {begin:,}: {why}",
            "mend the line, or say --columns",
        ) from exc


def _numbers(column: object) -> Values:
    values = column.to_numpy()  # type: ignore[attr-defined]
    return np.asarray(values, np.float64) if values.dtype.kind not in "iufb" else values


def make_sink(path: Path, new: NewFile) -> PointSink:
    """A sink of lines: the columns asked for, else x, y and z for .xyz, all values with their names for
    others."""
    ending, head = path.suffix.lower(), b""
    if ending in (".xyz", ".pts"):
        encoder = TextEncoder(new.columns or _USUAL, " ")
    else:
        held = tuple(name for name in new.columns or new.layout.names if name not in lacking(new))
        encoder = TextEncoder(held, "," if ending == ".csv" else " ")
        fields = fields_told(new.layout, held)
        told = f"{_FIELDS}{fields}\n" if fields != "{}" else ""
        head = f"{told}{encoder.separator.join(held)}\n".encode()
    return PointSink(_CHUNK, encoder, TextStore(path, head, new.crs))


def lacking(new: NewFile) -> tuple[str, ...]:
    """Values that lines do not hold."""
    return tuple(name for name in unheld(new.layout) if name in (new.columns or new.layout.names))


@dataclass(frozen=True)
class TextEncoder:
    """Lines of these values, with as many digits as the scaling tells."""

    names: tuple[str, ...]
    separator: str

    def encode(self, block: PointBlock) -> bytes:
        rows = zip(*(self._words(block, name) for name in self.names), strict=True)
        return "".join(f"{self.separator.join(row)}\n" for row in rows).encode()

    def _words(self, block: PointBlock, name: str) -> list[str]:
        values = block.values(name)
        if name in _USUAL:
            digits = max(0, round(-np.log10(block.scaling.scale["xyz".index(name)]) + 0.49))
            return [f"{v:.{digits}f}" for v in values.tolist()]
        if values.dtype.kind == "f":
            return [f"{v:.10g}" if name != "gps_time" else repr(v) for v in values.tolist()]
        return [str(v) for v in values.tolist()]


class TextStore:
    """Lines behind a head, and the CRS beside them."""

    def __init__(self, path: Path, head: bytes, crs: CRS | None) -> None:
        self._path, self._crs = path, crs
        self._file = path.open("wb")
        self._file.write(head)

    def append(self, encoded: bytes) -> None:
        self._file.write(encoded)

    def finish(self) -> None:
        self._file.close()
        if self._crs is not None and not isinstance(self._crs, UnresolvedCRS):
            self._path.with_suffix(".prj").write_text(write_crs(self._crs, "prj") + "\n", "utf-8")

    def abort(self) -> None:
        self._file.close()
