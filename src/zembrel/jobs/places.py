"""On which lines of a TOML file its keys stand. Source: TOML 1.0.0, toml.io/en/v1.0.0."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

_HEADER = re.compile(r"\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""\s*("(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_-]+)[\s\w."'-]*=""")
_OPENED, _CLOSED = "[{", "]}"


@dataclass
class KeyLines:
    """Lines by table, number of the table among those of its name, and key; from 1."""

    _lines: dict[tuple[str, int, str], int] = field(default_factory=dict)

    @classmethod
    def of(cls, text: str) -> KeyLines:
        """The lines of a file that holds `text`."""
        found, table, number = cls(), "", 0
        counts: dict[str, int] = {}
        for line, content in _statements(text):
            header, key = _HEADER.match(content), _KEY.match(content)
            if header is not None:
                table = header[2]
                number = counts.get(table, -1) + 1
                counts[table] = number
                found._lines.setdefault((table, number, ""), line)
            elif key is not None:
                found._lines.setdefault((table, number, key[1].strip("\"'")), line)
        return found

    def line(self, table: str, number: int = 0, key: str = "") -> int:
        """The line of a key, else of its table; 0 if neither is to be found."""
        at = self._lines
        places = ((table, number, key), (table or key, number, ""), ("", 0, table))
        return next((at[place] for place in places if place in at), 0)

    def line_of(self, table: str, number: int, key: str) -> int:
        """The line of a key of a table; 0 if it is not to be found."""
        return self._lines.get((table, number, key), 0)


def _statements(text: str) -> Iterator[tuple[int, str]]:
    """The lines on which something begins, with their numbers; what values go on over is left out."""
    end, depth = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        if not end and not depth:
            yield number, line
        end, depth = _after(line, end, depth)


def _after(line: str, end: str, depth: int) -> tuple[str, int]:
    """The quotes that a text of several lines waits for, and how many brackets are open, after `line`."""
    if not end and not depth and _HEADER.match(line):
        return "", 0
    at = 0
    while at < len(line):
        if end:
            closing = line.find(end, at)
            if closing < 0:
                return (end, depth) if len(end) == 3 else ("", depth)
            escaped = end[0] == '"' and _backslashes(line, closing) % 2
            at, end = closing + (1 if escaped else len(end)), end if escaped else ""
            continue
        sign = line[at]
        if sign == "#":
            break
        if sign in "\"'":
            end = sign * 3 if line.startswith(sign * 3, at) else sign
            at += len(end)
            continue
        depth += (sign in _OPENED) - (sign in _CLOSED)
        at += 1
    return end if len(end) == 3 else "", max(depth, 0)


def _backslashes(line: str, before: int) -> int:
    """How many stand in a row before a place."""
    return before - len(line[:before].rstrip("\\"))
