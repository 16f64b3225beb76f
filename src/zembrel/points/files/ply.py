"""PLY: the vertices of a file, as text or binary.

Source: The PLY Polygon File Format (Turk, 1994), version 1.0 of the header.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.text import read_crs, write_crs
from zembrel.handles import FileBytes
from zembrel.points.files import Reading
from zembrel.points.files.columns import (
    Steps,
    block_of,
    check_place,
    fields_told,
    layout_for,
    meant,
    read_fields_told,
    unheld,
)
from zembrel.points.las.laswriting import NewFile
from zembrel.points.model import Cloud, Fields, Part, PointBlock, PointSource
from zembrel.points.records import ExtraField, Values
from zembrel.points.sink import PointSink
from zembrel.runstate import changed

_TYPES = {
    "char": "i1", "uchar": "u1", "short": "i2", "ushort": "u2", "int": "i4", "uint": "u4", "float": "f4",
    "double": "f8", "int8": "i1", "uint8": "u1", "int16": "i2", "uint16": "u2", "int32": "i4", "uint32": "u4",
    "float32": "f4", "float64": "f8",
}  # fmt: skip
_NAMES = {
    "i1": "char", "u1": "uchar", "i2": "short", "u2": "ushort", "i4": "int", "u4": "uint", "f4": "float",
}  # fmt: skip
_COLOURS, _EIGHT_BITS = ("red", "green", "blue"), 257  # 255 becomes 65,535
_PART, _HEAD, _CRS, _FIELDS = 1 << 17, 1 << 16, "crs ", "fields "


class _VertexShape(NamedTuple):
    """What the header says of the vertices."""

    number: int
    dtype: np.dtype[np.void]
    begin: int
    text: bool
    crs: CRS | None
    fields: Mapping[str, ExtraField]


def is_ours(path: Path) -> bool:
    return True


_WRITTEN = 100_000  # points that are encoded together


def open_points(path: Path, reading: Reading) -> PointSource:
    """The vertices at `path`, read once to see how far and how fine they are. Raises InputError."""
    shape = _read_header(path, reading.columns)
    names = shape.dtype.names or ()
    check_place(names, path)
    source = PlySource(path, shape, None)
    there = source.count
    if there < shape.number and not reading.salvage:
        raise InputError(
            f"{path} ends after {there:,} of {shape.number:,} points",
            "it is cut off, or its header is wrong",
            "fetch it again, or add --salvage to take the points that are there",
        )
    steps = Steps(path)
    for begin in range(0, there, _PART):
        run = source.vertices(begin, min(_PART, there - begin))
        for axis, name in enumerate("xyz"):
            steps.look(axis, _exact(run[name]))
    layout = layout_for({name: shape.dtype[name] for name in names}, shape.fields)
    lost = (f"{shape.number - there:,} of {shape.number:,} points are lost: the file ends before them",)
    bounds = (*steps.low, *steps.high) if there else None
    cloud = Cloud(
        layout, steps.scaling(), shape.crs, there, bounds, {}, lost if there < shape.number else ()  # type: ignore[arg-type]
    )  # fmt: skip
    return PlySource(path, shape, cloud)


@dataclass(frozen=True, eq=False)
class PlySource:
    """Vertices; parts are runs of them."""

    path: Path
    shape: _VertexShape
    known: Cloud | None

    @property
    def cloud(self) -> Cloud:
        assert self.known is not None
        return self.known

    @property
    def parts(self) -> tuple[Part, ...]:
        starts = range(0, self.cloud.count, _PART)
        return tuple(Part(n, min(_PART, self.cloud.count - start)) for n, start in enumerate(starts))

    @cached_property
    def _texts(self) -> np.ndarray:
        return _from_text(self.path, self.shape)

    @property
    def count(self) -> int:
        """How many vertices there are, whatever the header says."""
        if self.shape.text:
            return len(self._texts)
        there = len(FileBytes(self.path)) - self.shape.begin
        return min(self.shape.number, there // self.shape.dtype.itemsize)

    def vertices(self, first: int, count: int) -> np.ndarray:
        """So many vertices. Raises InputError if the file has become shorter."""
        if self.shape.text:
            return self._texts[first : first + count]
        size = self.shape.dtype.itemsize
        begin = self.shape.begin + first * size
        data = FileBytes(self.path)[begin : begin + count * size]
        if data.size < count * size:
            raise changed(self.path)
        return data.view(self.shape.dtype)

    def read(self, part: Part, fields: Fields | None = None) -> PointBlock:
        run = self.vertices(part.number * _PART, part.points)
        columns = {name: _exact(run[name]) for name in run.dtype.names or ()}
        for name in _COLOURS:
            if name in columns and self.shape.dtype[name] == np.uint8:
                columns[name] = columns[name].astype(np.uint16) * _EIGHT_BITS
        return block_of(columns, self.cloud.layout, self.cloud.scaling, self.path)


def _exact(values: Values) -> Values:
    """Numbers as they were meant: the shortest decimal number that a single-precision one stands for."""
    if values.dtype.itemsize == 4 and values.dtype.kind == "f":
        with np.errstate(invalid="ignore"):  # of numbers that are none
            return np.round(values.astype(np.float64), 6)
    return values.astype(values.dtype.newbyteorder("="))


def _from_text(path: Path, shape: _VertexShape) -> np.ndarray:
    names = shape.dtype.names or ()
    with path.open("rb") as file:
        file.seek(shape.begin)
        lines = file.read().splitlines()[: shape.number]
    try:
        table = np.loadtxt(io.BytesIO(b"\n".join(lines)), ndmin=2, usecols=range(len(names)))
    except ValueError as exc:
        raise InputError(f"{path} has a line that is no vertex", str(exc), "mend the line") from exc
    made = np.zeros(len(table), shape.dtype)
    for n, name in enumerate(names):
        made[name] = table[:, n]
    return made


def _read_header(path: Path, asked: Sequence[str] | None) -> _VertexShape:
    with path.open("rb") as file:
        head = file.read(_HEAD)
    end = head.find(b"end_header")
    if not head.startswith(b"ply") or end < 0:
        raise InputError(f"{path} is no PLY file", f"it begins with {head[:10]!r}", "check the file")
    begin = head.index(b"\n", end) + 1 if b"\n" in head[end:] else len(head)
    form, count, crs, told = "", -1, None, dict[str, ExtraField]()
    fields: list[tuple[str, str]] = []
    element = ""
    for line in head[:end].decode("utf-8", "replace").splitlines()[1:]:
        words = line.split()
        if words[:1] == ["format"] and len(words) > 1:
            form = words[1]
        elif words[:1] == ["comment"] and line.partition("comment ")[2].startswith(_CRS):
            crs = read_crs(line.partition("comment " + _CRS)[2])
        elif words[:1] == ["comment"] and line.partition("comment ")[2].startswith(_FIELDS):
            told = read_fields_told(line.partition("comment " + _FIELDS)[2])
        elif words[:1] == ["element"] and len(words) > 2:
            if count < 0 and words[1] != "vertex":
                raise InputError(
                    f"{path} begins with {words[1]}", "vertices have to come first", "reorder it"
                )
            element = words[1]
            count = _whole(words[2], path) if element == "vertex" else count
        elif words[:1] == ["property"] and element == "vertex":
            fields.append((words[-1], _type(words, form, path)))
    if count < 0 or form not in ("ascii", "binary_little_endian", "binary_big_endian"):
        raise InputError(
            f"{path} has no vertices that can be read", f"its format is {form!r}", "check the file"
        )
    named = [name for name, _ in fields]
    names = meant(asked, {}) if asked and len(asked) == len(fields) else meant(named, told)
    dtype = np.dtype(
        [
            (name if name != "-" else f"-{n}", kind)
            for n, (name, (_, kind)) in enumerate(zip(names, fields, strict=True))
        ]
    )
    return _VertexShape(count, dtype, begin, form == "ascii", crs, told)


def _whole(word: str, path: Path) -> int:
    if not word.isdigit():
        raise InputError(f"{path} has {word} vertices", "a whole number is needed", "its header is broken")
    return int(word)


def _type(words: list[str], form: str, path: Path) -> str:
    if len(words) != 3 or words[1] not in _TYPES:
        raise InputError(
            f"{path} has a property {' '.join(words[1:])}", "vertices have single numbers", "remove it"
        )
    return (">" if form == "binary_big_endian" else "<") + _TYPES[words[1]]


def make_sink(path: Path, new: NewFile) -> PointSink:
    """A sink of binary vertices."""
    types = {name: kind for name in new.columns or new.layout.names if (kind := _type_of(new, name))}
    encoder = PlyEncoder(np.dtype([(name, "<" + kind) for name, kind in types.items()]))
    fields = fields_told(new.layout, tuple(types))
    return PointSink(_WRITTEN, encoder, PlyStore(path, encoder.dtype, new.crs, fields))


def lacking(new: NewFile) -> tuple[str, ...]:
    """Values that vertices do not hold."""
    return tuple(name for name in unheld(new.layout, 4) if name in (new.columns or new.layout.names))


def _type_of(new: NewFile, name: str) -> str | None:
    """How a value is written, None if it cannot be."""
    if name in ("x", "y", "z", "gps_time", "scan_angle"):
        return "f8"
    if name in _COLOURS:
        return "u1"
    values = PointBlock(np.zeros(1, new.layout.dtype), new.layout, new.scaling).values(name)
    if values.ndim > 1 or values.dtype.kind == "V" or values.dtype.str[1:] in ("u8", "i8"):
        return None
    return values.dtype.str[1:]


@dataclass(frozen=True)
class PlyEncoder:
    """Vertices of the named values of a type."""

    dtype: np.dtype[Any]

    def encode(self, block: PointBlock) -> bytes:
        made = np.zeros(len(block), self.dtype)
        for name in self.dtype.names or ():
            values = block.values(name)
            made[name] = values >> 8 if name in _COLOURS else values
        return made.tobytes()


class PlyStore:
    """Vertices under way; their number goes into the header at the end."""

    def __init__(self, path: Path, dtype: np.dtype[Any], crs: CRS | None, fields: str) -> None:
        self._dtype, self._crs, self._fields, self._count = dtype, crs, fields, 0
        self._file = path.open("wb")
        self._file.write(self._header())

    def _header(self) -> bytes:
        crs = self._crs
        known = crs is not None and not isinstance(crs, UnresolvedCRS)
        lines = ["ply", "format binary_little_endian 1.0"]
        lines += (
            ["comment " + _CRS + " ".join(write_crs(crs, "wkt2").split())]
            if known and crs is not None
            else []
        )
        lines += [f"comment {_FIELDS}{self._fields}"] if self._fields != "{}" else []
        lines += [f"element vertex {self._count:<12}"]
        lines += [
            f"property {_NAMES.get(self._dtype[n].str[1:], 'double')} {n}" for n in self._dtype.names or ()
        ]
        return "\n".join([*lines, "end_header", ""]).encode()

    def append(self, encoded: bytes) -> None:
        self._file.write(encoded)
        self._count += len(encoded) // self._dtype.itemsize

    def finish(self) -> None:
        self._file.seek(0)
        self._file.write(self._header())
        self._file.close()

    def abort(self) -> None:
        self._file.close()
