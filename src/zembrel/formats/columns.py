"""Text of columns: how its numbers are separated, what the columns are called, and the numbers.

Separators are commas, semicolons, tabs or any white space; a comma is a decimal sign where something else
separates. Lines that begin with # are comments; the first of the others may name the columns.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.formats import numbertext
from zembrel.handles import file_handles

_HEAD, _CHUNK, _ODD = 65_536, 8_000_000, 1_000
_NOTHING = ("", "nan", "na", "n/a", "null", "none", "nodata", "-")


class Dialect(NamedTuple):
    """How a file is written; `separator` is empty for white space, `start` the first byte of data."""

    separator: str
    decimal: str
    names: tuple[str, ...]
    start: int
    width: int  # columns


def dialect_of(path: Path) -> Dialect:
    """The dialect of the text at `path`. Raises InputError if it begins like none."""
    file_handles.renew(path)
    head = file_handles.read(path, 0, _HEAD)
    at = 3 if head.startswith(b"\xef\xbb\xbf") else 0
    names: tuple[str, ...] = ()
    while at < len(head):
        end = head.find(b"\n", at)
        end = len(head) if end < 0 else end
        line = head[at:end].decode("utf-8", "replace").strip()
        if line and not line.startswith("#"):
            separator, decimal = _signs(line)
            fields = [field.strip().strip('"') for field in _split(line, separator)]
            if all(_is_number(field, decimal) for field in fields):
                return Dialect(separator, decimal, names, at, len(fields))
            if names:
                break
            names = tuple(fields)
        at = end + 1
    raise InputError(
        f"{path} is no table of numbers",
        f"it begins {head[:40].decode('utf-8', 'replace')!r}",
        "check what the file is; the name may be wrong",
    )


def _signs(line: str) -> tuple[str, str]:
    """Separator and decimal sign of a line."""
    for sign in (";", "\t"):
        if sign in line:
            return sign, "," if "," in line and "." not in line else "."
    words = line.split()
    inside = len(words) > 1 and all(re.fullmatch(r"[-+]?\d+(,\d+)?", word) for word in words)
    if "," in line and not inside:
        return ",", "."
    return "", "," if "," in line else "."


def _split(line: str, separator: str) -> list[str]:
    return line.split(separator) if separator else line.split()


def _is_number(text: str, decimal: str) -> bool:
    if text.lower() in _NOTHING:
        return True
    try:
        float(text.replace(decimal, "."))
    except ValueError:
        return False
    return True


def tables(path: Path, dialect: Dialect) -> Iterator[npt.NDArray[np.float64]]:
    """The numbers, (rows, columns), piece by piece; NaN where a field is empty or says so.

    Raises InputError, with the line, for a line of too many or too few fields and for what is no number.
    """
    at, line = dialect.start, 0
    while data := file_handles.read(path, at, _CHUNK):
        cut = data.rfind(b"\n") + 1
        whole = len(data) < _CHUNK
        if not whole and not cut:
            raise InputError(
                f"{path} is no table of numbers", "a line of it is longer than 8 MB", "check what it is"
            )
        piece = data if whole else data[:cut]
        values = _numbers(path, piece, dialect, line)
        line += len(values)
        at += len(piece)
        yield values


def _numbers(path: Path, piece: bytes, dialect: Dialect, before: int) -> npt.NDArray[np.float64]:
    text = _plain(piece, dialect)
    lines = [line for line in text.split(b"\n") if line.strip() and not line.lstrip().startswith(b"#")]
    sign = dialect.separator.encode()
    if sign and piece.count(sign) != (dialect.width - 1) * len(lines):
        raise _uneven(
            path, [line for line in piece.split(b"\n") if line.strip()], sign, dialect.width, before
        )
    if text.count(b"#"):
        text = b"\n".join(lines)
    values, odd = np.empty(len(lines) * dialect.width), np.empty((_ODD, 3), np.int64)
    raw = np.frombuffer(text, np.uint8)
    count, strange = numbertext.values(raw, values, odd)
    if count != values.size:
        raise _uneven(path, lines, b"", dialect.width, before)
    if strange > _ODD:
        odd = np.empty((strange, 3), np.int64)
        numbertext.values(raw, values, odd)
    for number, first, last in odd[:strange].tolist():
        word = text[first:last].decode("ascii", "replace")
        if word.strip('"').lower() in _NOTHING:
            values[number] = np.nan
            continue
        try:
            values[number] = float(word.strip('"'))
        except ValueError as exc:
            row, column = divmod(number, dialect.width)
            raise InputError(
                f"{path} is no sound table of numbers",
                f"{word[:20]!r} in line {before + row + 1} of its data, column {column + 1}, is no number",
                "correct it, or leave the file out",
            ) from exc
    return values.reshape(-1, dialect.width)


def _plain(piece: bytes, dialect: Dialect) -> bytes:
    """The text with blanks between its numbers and points in them; empty fields say nan."""
    sign = dialect.separator.encode()
    if sign:
        if re.search(rb"%b[ ]*(?=%b|\r?\n|\Z)|^%b" % (sign, sign, sign), piece, re.MULTILINE):
            piece = b"\n".join(_named_gaps(line, sign) for line in piece.split(b"\n"))
        piece = piece.replace(sign, b" ")
    return piece.replace(b",", b".") if dialect.decimal == "," else piece


def _named_gaps(line: bytes, sign: bytes) -> bytes:
    if not line.strip():
        return line
    return sign.join(field if field.strip() else b"nan" for field in line.split(sign))


def _uneven(path: Path, lines: Sequence[bytes], sign: bytes, due: int, before: int) -> InputError:
    counts = [len(line.split(sign) if sign else line.split()) for line in lines]
    found = next((n for n, count in enumerate(counts) if count != due), 0)
    has = counts[found] if counts else 0
    return InputError(
        f"{path} is no sound table of numbers",
        f"line {before + found + 1} of its data has {has} fields where the first has {due}",
        "correct it, or leave the file out",
    )
