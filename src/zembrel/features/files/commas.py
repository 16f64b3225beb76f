"""CSV of features: points by their x and y, anything as well-known text; the CRS in a .prj beside it.

Source: RFC 4180; well-known text of OGC 06-103r4, clause 7. Separators are found from the first line; columns
of numbers, truth values and days become such where every value is one and nothing of its text is lost.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from functools import partial
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO, TextIO

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.columns import column
from zembrel.features.depth import check_texts
from zembrel.features.files.commaswriting import TEXTS, CommaWriter
from zembrel.features.files.jsontext import BATCH
from zembrel.features.files.schema import Schema, apart
from zembrel.features.files.shapefiles import crs_of_prj
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.geodesy.registry import by_code

_PAIRS = (
    ("x", "y"),
    ("lon", "lat"),
    ("longitude", "latitude"),
    ("easting", "northing"),
    ("east", "north"),
    ("lng", "lat"),
)
_DEGREES = ("lon", "longitude", "lng")
_LOOK = 65_536  # bytes to see what a file is
_INTEGER, _REAL = (
    re.compile(r"-?(0|[1-9]\d{0,18})"),
    re.compile(r"-?(0|[1-9]\d*)?([.,]\d+)?(e[-+]?\d+)?", re.I),
)
_NOTHING = ("", "nan", "null", "none", "na", "n/a")
_TRUTHS = {"true": True, "false": False}
_CODED = re.compile(r"\s*SRID=(\d+);", re.IGNORECASE)
_TOLD = 52  # lines among which coordinates with decimal commas are looked for
Rows = list[list[str]]


csv.field_size_limit(2**31 - 1)  # not of the file, but of the package


def is_ours(path: Path) -> bool:
    """Whether the table at `path` has a column of geometries, or coordinates and a word beside numbers."""
    try:
        with path.open("rb") as file:
            text = file.read(_LOOK).decode("utf-8-sig", errors="replace")
    except OSError:
        return False
    lines = text.splitlines()[:50]
    if len(lines) < 2:
        return False
    heads, *rows = csv.reader(lines[:-1] if len(lines) > 2 else lines, delimiter=_separator(path, lines[0]))
    found = _places(heads)
    if found is None:
        return False
    cells = (cell.strip() for row in rows for cell in row)
    words = [cell for cell in cells if cell.lower() not in _NOTHING and not _REAL.fullmatch(cell)]
    return len(found) == 1 or bool(words)


def layers(path: Path) -> list[str]:
    return [path.stem]


def parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The features of the table at `path`, some at a time. Raises InputError with the line of a bad one."""
    with _opened(path) as data:
        table = _looked_through(path, data)
        before = 0
        for rows in table.batches():
            yield table.part(rows, before)
            before += len(rows)
        if not before:
            yield table.part([], 0)


@dataclass
class _Table:
    """What all lines of a table tell: its heads and where places stand, the CRS, what each column holds."""

    path: Path
    text: TextIO
    separator: str
    heads: list[str]
    places: tuple[int, ...]
    kinds: list[_Kinds]
    comma: bool = False
    crs: CRS | None = None
    remarks: tuple[str, ...] = ()

    def batches(self) -> Iterator[Rows]:
        """The lines behind the heads, some at a time."""
        rows = _rows(self.text, self.separator)
        next(rows, None)
        while batch := list(islice(rows, BATCH)):
            yield batch

    def part(self, rows: Rows, before: int) -> FeatureTable:
        """Some lines as features, of which so many came before."""
        make = _texts if len(self.places) == 1 else partial(_points, comma=self.comma)
        geometries = make(self.path, rows, self.places, before)
        columns = {
            head: self.kinds[n].column([row[n] for row in rows])
            for n, head in enumerate(apart(self.heads))
            if n not in self.places and self.heads[n]
        }
        return FeatureTable(geometries, columns, self.crs, self.remarks)


def _looked_through(path: Path, data: BinaryIO) -> _Table:
    """What a first look at all lines tells. Raises InputError for what is no table of features."""
    text = io.TextIOWrapper(data, "utf-8-sig", newline="")
    try:
        return _looked_at(path, text, [])
    except UnicodeDecodeError:
        text = io.TextIOWrapper(text.detach(), "cp1252", "replace", newline="")
        return _looked_at(path, text, ["texts taken as Windows 1252: they are no UTF-8"])


def _looked_at(path: Path, text: TextIO, remarks: list[str]) -> _Table:
    text.seek(0)
    separator = _separator(path, text.readline())
    rows = _rows(text, separator)
    heads = [head.strip() for head in next(rows, ())]
    if not heads:
        raise InputError(f"{path} is empty", "it has no line", "check how it was made")
    places = _places(heads)
    if places is None:
        raise InputError(
            f"{path} holds no features",
            f"its columns are {', '.join(heads)}",
            "name its coordinates x and y, or a column of geometries wkt",
        )
    table = _Table(path, text, separator, heads, places, [_Kinds() for _ in heads])
    codes = _look(table, rows)
    named = apart(heads)
    if named != heads:
        remarks.append("columns of one name are numbered: " + ", ".join(sorted({*named} - {*heads})))
    table.crs = crs_of_prj(path) or _told_by_texts(path, codes)
    if table.crs is None and len(places) == 2 and heads[places[0]].strip().lower() in _DEGREES:
        table.crs = by_code(4326)
        remarks.append("longitude and latitude taken as those of WGS 84")
    table.remarks = tuple(remarks)
    return table


def _rows(text: TextIO, separator: str) -> Iterator[list[str]]:
    """The rows of a text from its beginning, but empty ones."""
    text.seek(0)
    return (row for row in csv.reader(text, delimiter=separator) if row)


def _look(table: _Table, rows: Iterator[list[str]]) -> set[str]:
    """Learn what the columns hold; returns the codes of CRSs that geometries name. Raises InputError."""
    codes: set[str] = set()
    for number, row in enumerate(rows, 2):
        if len(row) != len(table.heads):
            raise InputError(
                f"row {number} of {table.path} has {len(row)} values",
                f"the first names {len(table.heads)}",
                "correct it",
            )
        if len(table.places) == 2 and number < _TOLD:
            table.comma |= any("," in row[n] and "." not in row[n] for n in table.places)
        elif len(table.places) == 1 and (found := _CODED.match(row[table.places[0]])):
            codes.add(found[1])
        for kinds, word in zip(table.kinds, row, strict=True):
            kinds.see(word)
    return codes


def _opened(path: Path) -> BinaryIO:
    try:
        return path.open("rb")
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc


def _separator(path: Path, line: str) -> str:
    if path.suffix.lower() == ".tsv":
        return "\t"
    return max((",", ";", "\t", "|"), key=line.count)


def _places(heads: Sequence[str]) -> tuple[int, ...] | None:
    """The column of geometries, or those of x and y; None if there are none."""
    plain = [head.strip().lower() for head in heads]
    for name in TEXTS:
        if name in plain:
            return (plain.index(name),)
    return next(((plain.index(x), plain.index(y)) for x, y in _PAIRS if x in plain and y in plain), None)


def _texts(path: Path, rows: Rows, places: tuple[int, ...], before: int) -> Any:
    texts = np.array([row[places[0]].rpartition(";")[2].strip() or None for row in rows], object)
    check_texts(path, texts)
    geometries = shapely.from_wkt(texts, on_invalid="ignore") if len(rows) else texts
    bad = next((n for n, text in enumerate(texts) if text is not None and geometries[n] is None), None)
    if bad is not None:
        raise InputError(
            f"feature {before + bad + 1} of {path} is no geometry", f"{texts[bad][:60]!r}", "correct it"
        )
    return geometries


def _told_by_texts(path: Path, codes: set[str]) -> CRS | None:
    """The CRS that texts such as `SRID=32626;POINT (1 2)` name. Raises InputError for several."""
    if len(codes) > 1:
        raise InputError(
            f"{path} has geometries of several CRSs",
            "SRID " + ", ".join(sorted(codes)),
            "keep those of one in a file",
        )
    return by_code(int(next(iter(codes)))) if codes else None


def _points(path: Path, rows: Rows, places: tuple[int, ...], before: int, comma: bool) -> Any:
    made = np.empty(len(rows), object)
    for number, row in enumerate(rows):
        words = [row[n].strip().replace(",", ".") if comma else row[n].strip() for n in places]
        if not any(words):
            continue
        try:
            made[number] = shapely.Point(*map(float, words))
        except ValueError as exc:
            raise InputError(
                f"feature {before + number + 1} of {path} has no place", f"{words}", "correct it"
            ) from exc
    return made


class _Kinds:
    """What the words of a column may be, all of them: empty ones are missing."""

    def __init__(self) -> None:
        self._left, self._some = list(_KINDS), False

    def see(self, word: str) -> None:
        """Learn from a word."""
        word = word.strip()
        if not self._left or word.lower() in _NOTHING:
            return
        self._some = True
        self._left = [kind for kind in self._left if kind[0](word)]

    def column(self, words: list[str]) -> Any:
        """Some of the words as what all of them are."""
        if not self._some or not self._left:
            return column([word or None for word in words])
        make = self._left[0][1]
        held = (word.strip() for word in words)
        return column([None if word.lower() in _NOTHING else make(word) for word in held])


def _is_integer(word: str) -> bool:
    return bool(_INTEGER.fullmatch(word)) and -(2**63) <= int(word) < 2**63


def _is_real(word: str) -> bool:
    """Whether a word is a number of which a float keeps every digit, if it is a whole one."""
    whole = word.lstrip("-").isdigit()
    return bool(_REAL.fullmatch(word)) and word.strip("-") != "" and not (whole and int(word) != float(word))


def _is_day(word: str) -> bool:
    if not re.fullmatch(r"\d{4}-\d\d-\d\d", word):
        return False
    try:
        return bool(date.fromisoformat(word))
    except ValueError:
        return False


_KINDS: tuple[tuple[Callable[[str], Any], Callable[[str], Any]], ...] = (
    (_is_integer, int),
    (_is_real, lambda word: float(word.replace(",", "."))),
    (lambda word: word.lower() in _TRUTHS, lambda word: _TRUTHS[word.lower()]),
    (_is_day, date.fromisoformat),
)


def make_writer(path: Path, schema: Schema) -> CommaWriter:
    return CommaWriter(path, schema)
