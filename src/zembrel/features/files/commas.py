"""CSV of features: points by their x and y, anything as well-known text; the CRS in a .prj beside it.

Source: RFC 4180; well-known text of OGC 06-103r4, clause 7. Separators are found from the first line; columns
of numbers, truth values and days become such where every value is one and nothing of its text is lost.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.depth import check_texts
from zembrel.features.files.schema import Schema, apart
from zembrel.features.files.shapefiles import crs_of_prj
from zembrel.features.table import FeatureTable, column
from zembrel.geodesy.crs import CRS, GeographicCRS
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.text import write_crs

_TEXTS = ("wkt", "geometry", "geom", "the_geom", "shape")
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


def read(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the table at `path`. Raises InputError with the line of what is none."""
    heads, rows, remarks = _lines(path)
    places = _places(heads)
    if places is None:
        raise InputError(
            f"{path} holds no features",
            f"its columns are {', '.join(heads)}",
            "name its coordinates x and y, or a column of geometries wkt",
        )
    comma = any("," in row[n] and "." not in row[n] for row in rows[:50] for n in places) and len(places) == 2
    geometries = _texts(path, rows, places[0]) if len(places) == 1 else _points(path, rows, places, comma)
    named = apart(heads)
    if named != heads:
        remarks.append("columns of one name are numbered: " + ", ".join(sorted({*named} - {*heads})))
    columns = {
        head: _typed([row[n] for row in rows], comma)
        for n, head in enumerate(named)
        if n not in places and heads[n]
    }
    crs = crs_of_prj(path)
    if crs is None and len(places) == 1:
        crs = _told_by_texts(path, [row[places[0]] for row in rows])
    if crs is None and len(places) == 2 and heads[places[0]].strip().lower() in _DEGREES:
        crs = by_code(4326)
        remarks.append("longitude and latitude taken as those of WGS 84")
    return FeatureTable(geometries, columns, crs, tuple(remarks))


def _lines(path: Path) -> tuple[list[str], Rows, list[str]]:
    try:
        data = path.read_bytes()
    except OSError as exc:
        raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    remarks = []
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("cp1252", errors="replace")
        remarks.append("texts taken as Windows 1252: they are no UTF-8")
    first = text.partition("\n")[0]
    rows = [
        row for row in csv.reader(io.StringIO(text, newline=""), delimiter=_separator(path, first)) if row
    ]
    if not rows:
        raise InputError(f"{path} is empty", "it has no line", "check how it was made")
    heads = [head.strip() for head in rows[0]]
    bad = next((n for n, row in enumerate(rows, 1) if len(row) != len(heads)), None)
    if bad is not None:
        raise InputError(
            f"row {bad} of {path} has {len(rows[bad - 1])} values",
            f"the first names {len(heads)}",
            "correct it",
        )
    return heads, rows[1:], remarks


def _separator(path: Path, line: str) -> str:
    if path.suffix.lower() == ".tsv":
        return "\t"
    return max((",", ";", "\t", "|"), key=line.count)


def _places(heads: Sequence[str]) -> tuple[int, ...] | None:
    """The column of geometries, or those of x and y; None if there are none."""
    plain = [head.strip().lower() for head in heads]
    for name in _TEXTS:
        if name in plain:
            return (plain.index(name),)
    return next(((plain.index(x), plain.index(y)) for x, y in _PAIRS if x in plain and y in plain), None)


def _texts(path: Path, rows: Rows, at: int) -> Any:
    texts = np.array([row[at].rpartition(";")[2].strip() or None for row in rows], object)
    check_texts(path, texts)
    geometries = shapely.from_wkt(texts, on_invalid="ignore") if len(rows) else texts
    bad = next((n for n, text in enumerate(texts) if text is not None and geometries[n] is None), None)
    if bad is not None:
        raise InputError(f"feature {bad + 1} of {path} is no geometry", f"{texts[bad][:60]!r}", "correct it")
    return geometries


def _told_by_texts(path: Path, texts: Sequence[str]) -> CRS | None:
    """The CRS that texts such as `SRID=32626;POINT (1 2)` name. Raises InputError for several."""
    codes = {found[1] for text in texts if (found := re.match(r"\s*SRID=(\d+);", text, re.IGNORECASE))}
    if len(codes) > 1:
        raise InputError(
            f"{path} has geometries of several CRSs",
            "SRID " + ", ".join(sorted(codes)),
            "keep those of one in a file",
        )
    return by_code(int(codes.pop())) if codes else None


def _points(path: Path, rows: Rows, places: tuple[int, ...], comma: bool) -> Any:
    made = np.empty(len(rows), object)
    for number, row in enumerate(rows):
        words = [row[n].strip().replace(",", ".") if comma else row[n].strip() for n in places]
        if not any(words):
            continue
        try:
            made[number] = shapely.Point(*map(float, words))
        except ValueError as exc:
            raise InputError(
                f"feature {number + 1} of {path} has no place", f"{words}", "correct it"
            ) from exc
    return made


def _typed(words: list[str], comma: bool) -> Any:
    """A column of texts as what all of them are; empty is missing."""
    held = ["" if word.strip().lower() in _NOTHING else word.strip() for word in words]
    filled = [word for word in held if word]
    for test, make in _KINDS:
        if filled and all(map(test, filled)):
            return column([None if not word else make(word) for word in held])
    return column([word or None for word in words])


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


class CommaWriter:
    """A line for each feature."""

    def __init__(self, path: Path, schema: Schema) -> None:
        self._path, self._schema = path, schema
        degrees = isinstance(schema.crs, GeographicCRS)
        pair = ["lon", "lat"] if degrees else ["x", "y"]
        taken = {name.lower() for name in schema.fields}
        self._plain = schema.kind == "Point" and not schema.heights and not taken & {*_TEXTS, *pair}
        self._file = path.open("w", encoding="utf-8", newline="")
        tabs = path.suffix.lower() == ".tsv"
        form: dict[str, Any] = {"delimiter": "\t" if tabs else ",", "lineterminator": "\n"}
        self._writer = csv.writer(self._file, **form)
        self._quoter = csv.writer(
            self._file, **form, quoting=csv.QUOTE_ALL
        )  # of what the other does not quote
        self._put([*(pair if self._plain else ["wkt"]), *schema.fields])

    def _put(self, row: list[Any]) -> None:
        odd = any(isinstance(value, str) and "\r" in value for value in row)
        (self._quoter if odd else self._writer).writerow(row)

    def add(self, table: FeatureTable) -> None:
        if self._plain:
            x, y = shapely.get_x(table.geometries).tolist(), shapely.get_y(table.geometries).tolist()
            places: Any = (["", ""] if a != a else [repr(a), repr(b)] for a, b in zip(x, y, strict=True))
        else:
            texts = shapely.to_wkt(table.geometries, rounding_precision=-1).tolist()
            places = ([text or ""] for text in texts)
        for place, row in zip(places, table.rows(), strict=True):
            self._put([*place, *("" if value is None else value for value in row.values())])

    def finish(self) -> tuple[str, ...]:
        self._file.close()
        if self._schema.crs is not None:
            self._path.with_suffix(".prj").write_text(write_crs(self._schema.crs, "prj"))
        return ()

    def abort(self) -> None:
        self._file.close()
