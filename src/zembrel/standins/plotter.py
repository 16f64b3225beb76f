"""A chart plotter: BSB charts of version 2 or 3, in Mercator on WGS 84, placed by their polynomials."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np

from zembrel.standins.verdict import SCREEN, Verdict, need

_MOST_COLOURS, _NEAR = 127, 1.0  # cells that polynomials may miss reference points by
Fields = dict[str, list[list[str]]]


def judge(path: Path) -> Verdict:
    """What the plotter says of the chart at `path`."""
    need(path.is_file() and path.suffix.lower() == ".kap", "it opens .kap charts")
    data = path.read_bytes()
    end = data.find(b"\x1a\x00")
    need(0 < end < 100_000, "its header does not end")
    fields = _fields(data[:end].decode("ascii", "replace"))
    for key in ("VER", "BSB", "KNP", "RGB", "REF", "PLY", "WPX", "WPY", "PWX", "PWY", "IFM", "OST"):
        need(key in fields, f"its header lacks {key}")
    need(float(fields["VER"][0][0]) in (2.0, 3.0), f"version {fields['VER'][0][0]} is not read")
    known = dict(word.split("=", 1) for word in fields["KNP"][0] if "=" in word)
    need(known.get("PR") == "MERCATOR", f"projection {known.get('PR')} is not shown")
    need(known.get("GD") == "WGS84", f"datum {known.get('GD')} is not shown")
    need(float(known.get("SC", 0)) >= 100, "it has no scale")
    colours = {int(c[0]): tuple(int(v) for v in c[1:4]) for c in fields["RGB"]}
    need(1 <= len(colours) <= _MOST_COLOURS and 0 not in colours, f"it has {len(colours)} colours")
    columns, rows = _size(fields)
    codes = _codes(data, end + 2, columns, rows)
    need(set(np.unique(codes).tolist()) <= set(colours), "a cell has a colour that is not in the palette")
    off = _misses(fields)
    need(off <= _NEAR, f"its polynomials miss the reference points by {off:.2f} cells")
    table = np.zeros((256, 3), np.uint8)
    for code, colour in colours.items():
        table[code] = colour
    facts = {"name": _name(fields), "scale": f"1:{float(known['SC']):,.0f}", "cells": f"{columns} x {rows}",
             "colours": len(colours), "points off by": f"{off:.3f} cells"}  # fmt: skip
    return Verdict((), facts, _screen(table[codes]))


def _fields(text: str) -> Fields:
    """Words by key; lines that begin with blanks go on with the one before."""
    made: Fields = {}
    for line in text.replace("\r\n", "\n").replace("\n    ", "").split("\n"):
        need(len(line) < 4_000, "a line of its header is too long")
        key, slash, words = line.partition("/")
        if slash and not line.startswith("!"):
            made.setdefault(key, []).append(words.split(","))
    return made


def _size(fields: Fields) -> tuple[int, int]:
    words = fields["BSB"][0]
    at = next((n for n, word in enumerate(words) if word.startswith("RA=")), None)
    need(at is not None, "its size is not told")
    assert at is not None
    return int(words[at][3:]), int(words[at + 1])


def _name(fields: Fields) -> str:
    return next((word[3:] for word in fields["BSB"][0] if word.startswith("NA=")), "")


def _codes(data: bytes, at: int, columns: int, rows: int) -> Any:
    """The codes of all cells: runs unpacked one by one."""
    bits = data[at]
    need(1 <= bits <= 7, f"colours of {bits} bits")
    (table,) = struct.unpack(">I", data[-4:])
    need(table + 4 * rows + 4 == len(data), "its table of rows is not where it should be")
    starts = struct.unpack(f">{rows}I", data[table : table + 4 * rows])
    codes, spare = np.zeros((rows, columns), np.uint8), 7 - bits
    for row, start in enumerate(starts):
        place, column = start, 0
        while data[place] & 128:
            place += 1
        place += 1
        while data[place]:
            byte = data[place]
            code, run = (byte & 127) >> spare, byte & ((1 << spare) - 1)
            while byte & 128:
                place += 1
                byte = data[place]
                run = run << 7 | byte & 127
            codes[row, column : column + run + 1] = code
            column += run + 1
            place += 1
        need(column == columns, f"row {row} has {column} cells, not {columns}")
    return codes


def _misses(fields: Fields) -> float:
    """How far the polynomials miss the reference points, there and back, in cells."""
    need(len(fields["REF"]) >= 4, f"it has {len(fields['REF'])} reference points")
    worst, phase = 0.0, float(fields.get("CPH", [["0"]])[0][0])
    for words in fields["REF"]:
        u, v, lat, lon = (float(word) for word in words[1:5])
        lon += 360 if phase and lon < 0 else 0
        there = _through(fields, "WPX", lon, lat), _through(fields, "WPY", lon, lat)
        worst = max(worst, abs(there[0] - u), abs(there[1] - v))
        back = _through(fields, "PWX", u, v), _through(fields, "PWY", u, v)
        again = _through(fields, "WPX", *back), _through(fields, "WPY", *back)
        worst = max(worst, abs(again[0] - u), abs(again[1] - v))
    return worst


def _through(fields: Fields, key: str, a: float, b: float) -> float:
    """A polynomial: 1, a, b, a^2, ab, b^2 and so on."""
    order, *terms = fields[key][0]
    powers = [(n - m, m) for n in range(int(order) + 1) for m in range(n + 1)]
    need(len(terms) == len(powers), f"{key} has {len(terms)} terms")
    return sum(float(c) * a**i * b**j for c, (i, j) in zip(terms, powers, strict=True))


def _screen(picture: Any) -> Any:
    from PIL import Image

    shown = Image.fromarray(picture)
    shown.thumbnail(SCREEN)
    screen = Image.new("RGB", SCREEN, (20, 26, 34))
    screen.paste(shown, ((SCREEN[0] - shown.width) // 2, (SCREEN[1] - shown.height) // 2))
    return np.asarray(screen)
