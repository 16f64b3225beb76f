"""A run as a page for a browser: one file, without anything from elsewhere."""

from __future__ import annotations

import html
from collections.abc import Sequence
from importlib.resources import files
from string import Template
from typing import NamedTuple

GOOD, BAD, PLAIN = "good", "bad", ""


class ReceiptLine(NamedTuple):
    """A word, and what is said under it; sort: whether that is good, bad or neither."""

    word: str
    items: Sequence[str]
    sort: str = PLAIN


class ReceiptPart(NamedTuple):
    """A step of a run: what it is called and did, its lines, what it read, and pictures with their names."""

    name: str
    what: str
    lines: Sequence[ReceiptLine]
    read: Sequence[tuple[str, str]]
    pictures: Sequence[tuple[str, str]]
    failed: bool = False


def receipt_page(title: str, about: str, parts: Sequence[ReceiptPart]) -> str:
    """The page, as text."""
    links = "".join(
        f'<a href="#{_mark(part.name)}"{" class=failed" * part.failed}>{html.escape(part.name)}</a>'
        for part in parts
    )
    return Template((files(__package__) / "receiptpage.html").read_text("utf-8")).substitute(
        title=html.escape(title),
        about=html.escape(about),
        links=links if len(parts) > 1 else "",
        sections="\n".join(map(_section, parts)),
    )


def _mark(name: str) -> str:
    return "".join(sign if sign.isalnum() else "-" for sign in name)


def _section(part: ReceiptPart) -> str:
    rows = "".join(
        f"<tr><th>{html.escape(line.word)}</th><td><ul>{_items(line)}</ul></td></tr>"
        for line in part.lines
        if line.items
    )
    read = "".join(
        f"<tr><td>{html.escape(name)}</td><td><code>{html.escape(mark)}</code></td></tr>"
        for name, mark in part.read
    )
    count = f"{len(part.read):,} file{'s' * (len(part.read) != 1)} read"
    inside = f"<details><summary>{count}</summary><table>{read}</table></details>" if part.read else ""
    pictures = "".join(
        f'<figure><img alt="{html.escape(name)}" src="{address}">'
        f"<figcaption>{html.escape(name)}</figcaption></figure>"
        for name, address in part.pictures
    )
    aside = f"<aside>{pictures}</aside>" if pictures else ""
    return (
        f'<section id="{_mark(part.name)}"><div><h2>{html.escape(part.name)} '
        f"<small>{html.escape(part.what)}</small></h2><table>{rows}</table>{inside}</div>{aside}</section>"
    )


def _items(line: ReceiptLine) -> str:
    kind = f' class="{line.sort}"' if line.sort else ""
    return "".join(f"<li{kind}>{html.escape(item)}</li>" for item in line.items)
