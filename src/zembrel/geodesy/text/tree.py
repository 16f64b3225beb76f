"""Well-known text as a tree: KEYWORD["name", number, KEYWORD[...], ...]."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from zembrel.errors import InputError

_TOKEN = re.compile(
    r'\s*(?:(?P<word>[A-Za-z_][A-Za-z0-9_]*)|(?P<text>"(?:[^"]|"")*")|'
    r"(?P<number>[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)|(?P<sign>[\[\](),]))"
)
_DEEPEST = 40


@dataclass(frozen=True)
class Word:
    """A bare word, such as the direction of an axis."""

    name: str


@dataclass(frozen=True)
class TextNode:
    """A keyword in capitals and what stands in its brackets."""

    keyword: str
    items: tuple[Item, ...]

    def all(self, *keywords: str) -> Iterator[TextNode]:
        """The nodes directly in this one that have one of `keywords`."""
        return (item for item in self.items if isinstance(item, TextNode) and item.keyword in keywords)

    def first(self, *keywords: str) -> TextNode | None:
        return next(self.all(*keywords), None)

    @property
    def name(self) -> str:
        """The first item if it is a text, else nothing."""
        return self.items[0] if self.items and isinstance(self.items[0], str) else ""

    def number(self, position: int) -> float:
        """The item at `position`, which has to be a number. Raises InputError."""
        item = self.items[position] if position < len(self.items) else None
        if not isinstance(item, float):
            raise InputError(
                f"{self.keyword}[{self.name!r} ...] has no number in place {position + 1}",
                "its definition needs one there",
                "correct the text, or give EPSG:code instead",
            )
        return item

    def text(self) -> str:
        return f"{self.keyword}[{','.join(_shown(item) for item in self.items)}]"


Item = str | float | Word | TextNode


def _shown(item: Item) -> str:
    if isinstance(item, TextNode):
        return item.text()
    if isinstance(item, str):
        return '"' + item.replace('"', '""') + '"'
    if isinstance(item, Word):
        return item.name
    return f"{int(item)}" if float(item).is_integer() and abs(item) < 1e15 else repr(float(item))


def parse(text: str) -> TextNode:
    """The tree of `text`; several with commas between, as in .prj files, come as parts of a compound CRS.

    Raises InputError with the position of what is wrong.
    """
    tokens = list(_tokens(text))
    node, end = _node(text, tokens, 0, 0)
    nodes = [node]
    while end < len(tokens):
        if tokens[end][1] != ",":
            raise _wrong(text, tokens[end][2], "something follows the last bracket")
        node, end = _node(text, tokens, end + 1, 0)
        nodes.append(node)
    return node if len(nodes) == 1 else TextNode("COMPD_CS", ("", *nodes))


def _tokens(text: str) -> Iterator[tuple[str, str, int]]:
    at = 0
    while text[at:].strip():
        found = _TOKEN.match(text, at)
        if not found:
            raise _wrong(text, at + len(text[at:]) - len(text[at:].lstrip()), "that cannot be read")
        kind = str(found.lastgroup)
        yield kind, found[kind], found.start(kind)
        at = found.end()


def _node(text: str, tokens: list[tuple[str, str, int]], at: int, depth: int) -> tuple[TextNode, int]:
    if depth > _DEEPEST:
        raise _wrong(text, tokens[at][2], f"it is nested more than {_DEEPEST} deep")
    kind, word, place = tokens[at] if at < len(tokens) else ("end", "", len(text))
    if kind != "word" or at + 1 >= len(tokens) or tokens[at + 1][1] not in ("[", "("):
        raise _wrong(text, place, "a keyword and an opening bracket are due")
    closing, at = {"[": "]", "(": ")"}[tokens[at + 1][1]], at + 2
    items: list[Item] = []
    while True:
        item, at = _item(text, tokens, at, depth)
        items.append(item)
        sign, place = (tokens[at][1], tokens[at][2]) if at < len(tokens) else ("", len(text))
        at += 1
        if sign == closing:
            return TextNode(word.upper(), tuple(items)), at
        if sign != ",":
            raise _wrong(text, place, f"a comma or {closing!r} is due")


def _item(text: str, tokens: list[tuple[str, str, int]], at: int, depth: int) -> tuple[Item, int]:
    kind, value, place = tokens[at] if at < len(tokens) else ("end", "", len(text))
    if kind == "text":
        return value[1:-1].replace('""', '"'), at + 1
    if kind == "number":
        return float(value), at + 1
    if kind == "word":
        opens = at + 1 < len(tokens) and tokens[at + 1][1] in ("[", "(")
        return _node(text, tokens, at, depth + 1) if opens else (Word(value), at + 1)
    raise _wrong(text, place, "a text, a number or a keyword is due")


def _wrong(text: str, at: int, why: str) -> InputError:
    return InputError(
        f"not well-known text of a CRS: {text[at : at + 20]!r} at position {at + 1}"
        if text[at:].strip()
        else f"not well-known text of a CRS: it ends at position {at + 1}",
        why,
        "correct the text, or give EPSG:code instead",
    )
