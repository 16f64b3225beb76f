"""How deep geometries lie in geometries, before they are read: the reader goes down without a limit.

Source: OGC 06-103r4, "Simple feature access", clauses 7 (well-known text) and 8 (well-known binary).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable
from pathlib import Path

import numpy as np

from zembrel.errors import InputError

DEEPEST = 64
_LEAST = 9  # bytes of a well-known binary for each level
_OPEN, _CLOSE = np.zeros(256, np.int8), np.zeros(256, np.int8)
_OPEN[list(b"([{")], _CLOSE[list(b")]}")] = 1, 1
_POINT, _LINE, _POLYGON = 1, 2, 3
_FLAG = rb"[\x00\x20\x40\x60\x80\xa0\xc0\xe0]"
# heads of geometries that hold others, in either order of bytes, with 1000 a dimension or flags of their own
_HOLDERS = re.compile(
    rb"\x01(?:[\x04-\x07]\x00|[\xec-\xef]\x03|[\xd4-\xd7]\x07|[\xbc-\xbf]\x0b)\x00" + _FLAG
    + rb"|\x00" + _FLAG + rb"\x00(?:\x00[\x04-\x07]|\x03[\xec-\xef]|\x07[\xd4-\xd7]|\x0b[\xbc-\xbf])",
    re.DOTALL,
)  # fmt: skip


def check_texts(path: Path, texts: Iterable[str | bytes | None]) -> None:
    """Raise InputError for a text (WKT or GeoJSON) with more than DEEPEST brackets in brackets."""
    for number, text in enumerate(texts):
        data = text.encode() if isinstance(text, str) else text
        if data and data.count(b"(") + data.count(b"[") + data.count(b"{") > DEEPEST:
            letters = np.frombuffer(data, np.uint8)
            if np.cumsum(_OPEN[letters] - _CLOSE[letters], dtype=np.int64).max() > DEEPEST:
                raise _too_deep(path, number)


def check_binary(path: Path, bodies: Iterable[bytes | None]) -> None:
    """Raise InputError for a well-known binary with more than DEEPEST geometries in geometries."""
    for number, body in enumerate(bodies):
        if body is None or len(body) < _LEAST * DEEPEST:
            continue
        heads = _HOLDERS.findall(body)
        if len(heads) > DEEPEST and _depth(body) > DEEPEST:
            raise _too_deep(path, number)


def _too_deep(path: Path, number: int) -> InputError:
    what = f"feature {number + 1} of {path} has geometries in geometries, more than {DEEPEST} deep"
    return InputError(what, "no real feature has", "leave it out, or get the file again")


def _depth(body: bytes) -> int:
    """Levels of geometries in a well-known binary, as far as it can be followed."""
    waiting, at, deepest = [1], 0, 0  # geometries to come on each level
    try:
        while waiting and deepest <= DEEPEST:
            if not waiting[-1]:
                waiting.pop()
                continue
            waiting[-1] -= 1
            order = "<" if body[at] else ">"
            code, count = struct.unpack_from(f"{order}II", body, at + 1)
            kind, size = code % 1000 & 0xFF, 8 * _dimensions(code)
            if code & 0x20000000:
                at += 4
                (count,) = struct.unpack_from(f"{order}I", body, at + 5)
            at += 9 - 4 * (kind == _POINT)
            if kind == _POINT:
                at += size
            elif kind == _LINE:
                at += size * count
            elif kind == _POLYGON:
                for _ in range(count):
                    at += 4 + size * struct.unpack_from(f"{order}I", body, at)[0]
            else:
                waiting.append(count)
                deepest = max(deepest, len(waiting))
    except (IndexError, struct.error):
        pass  # it ends too early, which its reader will say
    return deepest


def _dimensions(code: int) -> int:
    """Numbers of a position, by either way of telling."""
    thousands = code % 0x10000 // 1000
    return 2 + bool(code & 0x80000000) + bool(code & 0x40000000) + (0, 1, 1, 2)[min(thousands, 3)]
