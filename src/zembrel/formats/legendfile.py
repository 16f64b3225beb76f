"""Legend files: `*.legend.toml`, a table for each class code; and plain text or CSV.

A line of text is `code,colour,name`, separated by commas, semicolons, tabs or blanks; colour is #rrggbb or
three numbers from 0 to 255 (a fourth, opacity, is passed over). A first line of words and lines that begin
with # and a blank are passed over.
"""

from __future__ import annotations

import csv
import re
from pathlib import Path

from zembrel.errors import InputError
from zembrel.nested import toml_of
from zembrel.raster.legend import Legend, LegendEntry, colour_told, hex_of
from zembrel.reading import readings
from zembrel.tomlfile import check_keys, write_toml

ENDING = ".legend.toml"
_MOST = 16_000_000  # bytes


def read_legend(path: Path) -> Legend:
    """The legend in the file at `path`. Raises InputError naming what is wrong."""
    try:
        with readings.note(path).open("rb") as file:
            text = file.read(_MOST).decode("utf-8-sig")
    except OSError as exc:
        raise InputError(
            f"legend file {path} cannot be read",
            exc.strerror or str(exc),
            "check the path and its permissions",
        ) from exc
    except UnicodeDecodeError as exc:
        raise InputError(f"{path} is not a legend file", "it is no text in UTF-8", "mend it") from exc
    return parse_legend(path, text) if path.suffix.lower() == ".toml" else _of_lines(path, text)


def parse_legend(path: Path, text: str) -> Legend:
    """The legend that TOML `text`, from `path`, holds. Raises InputError naming what is wrong."""
    try:
        tables = toml_of(text)
    except ValueError as exc:
        raise InputError(f"{path} is not a legend file", f"not TOML: {exc}", "mend that line") from exc
    entries = []
    for code, facts in tables.items():
        if not code.isdigit() or not isinstance(facts, dict):
            raise InputError(
                f"{path}: {code!r} is no class code",
                "codes are whole numbers",
                "write [3] and its keys below",
            )
        check_keys(path, facts, {"name": str, "colour": str}, required=("colour",))
        colour = colour_told(facts["colour"])
        if colour is None:
            raise InputError(
                f"{path}: colour {facts['colour']!r} of class {code}", "it is not #rrggbb", "mend that line"
            )
        entries.append(LegendEntry(int(code), facts.get("name", ""), colour))
    return Legend.of(entries)


def _of_lines(path: Path, text: str) -> Legend:
    entries: dict[int, LegendEntry] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or re.match(r"\s*#\s", line):
            continue
        sign = next((s for s in ";\t," if s in line), None)
        fields = next(csv.reader([line], delimiter=sign)) if sign else line.split(maxsplit=5)
        entry = _entry([field.strip() for field in fields])
        if entry is None and number == 1 and not fields[0].strip().lstrip("-").isdigit():
            continue  # a line of words
        if entry is None or entry.code in entries:
            why = "it is no code, colour and name" if entry is None else f"class {entry.code} is there twice"
            raise InputError(
                f"line {number} of legend {path}: {line.strip()[:40]!r}", why, "write 3,#947680,heath"
            )
        entries[entry.code] = entry
    if not entries:
        raise InputError(
            f"legend {path} has no class", "no line is code,colour,name", "write 3,#947680,heath"
        )
    return Legend.of(entries.values())


def _entry(fields: list[str]) -> LegendEntry | None:
    if len(fields) < 2 or not fields[0].isdigit():
        return None
    colour = colour_told(fields[1])
    if colour is not None:
        return LegendEntry(int(fields[0]), " ".join(fields[2:]).strip(), colour)
    parts = [int(field) if field.isdigit() else 256 for field in fields[1:4]]
    if len(parts) < 3 or max(parts) > 255:
        return None
    opacity = len(fields) > 4 and fields[4].isdigit()
    return LegendEntry(
        int(fields[0]), " ".join(fields[5 if opacity else 4 :]).strip(), (parts[0], parts[1], parts[2])
    )


def write_legend(legend: Legend) -> str:
    """TOML text of `legend`."""
    return write_toml(
        {str(entry.code): {"name": entry.name, "colour": hex_of(entry.colour)} for entry in legend.entries}
    )
