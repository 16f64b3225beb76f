"""The header of a chart: lines of keys and fields, read strictly and written."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn

from zembrel.errors import InputError

END = b"\x1a\x00"
MOST = 1_000_000  # bytes of a header
_WIDTH = 78


@dataclass(frozen=True)
class ChartHeader:
    """What a header says.

    size: columns and rows; colours: by code from 1; references: column, row, latitude, longitude; shift:
    seconds north and east from the datum to WGS 84; bits: of a colour; at: where the rows begin.
    """

    name: str
    size: tuple[int, int]
    projection: str
    colours: tuple[tuple[int, int, int], ...]
    references: tuple[tuple[float, ...], ...]
    shift: tuple[float, float]
    bits: int
    at: int


def parse_header(path: Path, data: bytes) -> ChartHeader:
    """The header that `data`, the beginning of a file, holds. Raises InputError for what breaks a rule."""
    end = data.find(END)
    if end < 0 or end + len(END) >= len(data):
        broken(path, "its header does not end")
    lines = list(_lines(data[:end].decode("latin-1")))
    keys = [key for key, _ in lines]
    if keys[:1] != ["VER"] and "BSB" not in keys:
        broken(path, "it does not say that it is a chart")
    held = _fields(path, lines, "BSB") | _fields(path, lines, "KNP")
    columns, rows = map(int, _numbers(path, "RA", held.get("RA", []), 2))
    if not (0 < columns < 1 << 20 and 0 < rows < 1 << 20):
        broken(path, f"it has {columns} x {rows} cells")
    bits = data[end + len(END)]
    told = next((fields for key, fields in lines if key == "IFM"), [])
    if not 1 <= bits <= 7 or (told and told[0].strip() != str(bits)):
        broken(path, f"colours of {bits} bits, where IFM says {told[0] if told else 'nothing'}")
    references = [tuple(_numbers(path, "REF", fields, 5)[1:]) for key, fields in lines if key == "REF"]
    shift = next((_numbers(path, "DTM", fields, 2) for key, fields in lines if key == "DTM"), [0.0, 0.0])
    return ChartHeader(
        ",".join(held.get("NA", [""])), (columns, rows), held.get("PR", ["UNKNOWN"])[0].upper(),
        _colours(path, lines, bits), tuple(references), (shift[0], shift[1]), bits, end + len(END) + 1,
    )  # fmt: skip


def _colours(
    path: Path, lines: Sequence[tuple[str, list[str]]], bits: int
) -> tuple[tuple[int, int, int], ...]:
    """The palette, by code from 1."""
    told = [[int(v) for v in _numbers(path, "RGB", fields, 4)] for key, fields in lines if key == "RGB"]
    colours = {code: (red, green, blue) for code, red, green, blue in told}
    if sorted(colours) != list(range(1, len(told) + 1)) or not 0 < len(told) < 1 << bits:
        broken(path, f"{len(told)} colours for codes of {bits} bits")
    if any(not 0 <= part <= 255 for colour in colours.values() for part in colour):
        broken(path, "a colour is beyond 255")
    return tuple(colours[code] for code in sorted(colours))


def broken(path: Path, why: str) -> NoReturn:
    raise InputError(f"{path} is no sound chart", why, "get the file again")


def write_header(lines: Sequence[tuple[str, Sequence[str]]], bits: int) -> bytes:
    """Lines of keys and fields, folded where they are long, with what ends a header."""
    folded: list[str] = []
    for key, fields in lines:
        text = f"{key}/"
        for number, field in enumerate(fields):
            part = field + ("," if number < len(fields) - 1 else "")
            if len(text) + len(part) > _WIDTH and number:
                folded.append(text)
                text = "    "
            text += part
        folded.append(text)
    return ("\r\n".join(folded) + "\r\n").encode("ascii", "replace") + END + bytes([bits])


def plain(text: str) -> str:
    """Text as a field holds it."""
    return " ".join("".join(c if c.isprintable() and c not in ",/" else " " for c in text).split()) or "CHART"


def _lines(text: str) -> Iterator[tuple[str, list[str]]]:
    """Keys and fields; a line that begins with blanks goes on with the one before it."""
    held = ""
    for line in [*text.splitlines(), ""]:
        if line[:1] in (" ", "\t"):
            held += line.strip()
            continue
        key, slash, fields = held.partition("/")
        if slash and not held.startswith("!"):
            yield key.strip().upper(), fields.split(",")
        held = line.rstrip()


def _fields(path: Path, lines: Sequence[tuple[str, list[str]]], wanted: str) -> dict[str, list[str]]:
    """Fields `NAME=value` of a line; values without a name belong to the one before."""
    found: dict[str, list[str]] = {}
    fields = next((fields for key, fields in lines if key == wanted), None)
    if fields is None:
        broken(path, f"its header lacks {wanted}")
    last = ""
    for field in fields:
        name, equals, value = field.partition("=")
        if equals:
            last = name.strip().upper()
            found[last] = [value.strip()]
        elif last:
            found[last].append(field.strip())
    return found


def _numbers(path: Path, key: str, fields: Sequence[str], least: int) -> list[float]:
    try:
        numbers = [float(field) for field in fields[:least]]
    except ValueError:
        numbers = []
    if len(numbers) < least or not all(map(math.isfinite, numbers)):
        broken(path, f"{key} lacks its {least} numbers: {','.join(fields)}")
    return numbers
