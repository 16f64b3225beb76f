"""JSON texts of any length, gone through value by value."""

from __future__ import annotations

import json
import re
from collections.abc import Generator, Iterator
from typing import Any, TextIO

_DECODER, _BLANKS = json.JSONDecoder(), re.compile(r"[ \t\r\n]*")
_CHUNK = 1 << 20  # characters that are read at a time
BATCH, LONG = 5_000, 1 << 23  # values of an array that are given at a time, and characters that end a batch


class OtherwiseError(Exception):
    """A text is not laid out as one object."""


class JSONText:
    """A text, of which so much is held as the next value takes."""

    def __init__(self, file: TextIO) -> None:
        self._file, self._text, self._at, self._ended = file, "", 0, False
        self.taken = 0  # characters of the values so far

    def _more(self, size: int = _CHUNK) -> None:
        read = self._file.read(size)
        self._ended = not read
        self._text, self._at = self._text[self._at :] + read, 0

    def peek(self) -> str:
        """The sign with which the next token begins; nothing at the end."""
        while True:
            self._at = _BLANKS.match(self._text, self._at).end()  # type: ignore[union-attr]
            if self._at < len(self._text) or self._ended:
                return self._text[self._at : self._at + 1]
            self._more()

    def take(self, sign: str) -> None:
        """Go past a sign. Raises OtherwiseError if another stands there."""
        if self.peek() != sign:
            raise OtherwiseError
        self._at += 1

    def value(self) -> Any:
        """The next value. Raises ValueError for what is none."""
        self.peek()
        size = _CHUNK
        while True:
            try:
                value, end = _DECODER.raw_decode(self._text, self._at)
                if end < len(self._text) or self._ended:  # else a number may go on
                    self.taken += end - self._at
                    self._at = end
                    return value
            except ValueError:
                if self._ended:
                    raise
            self._more(size)
            size *= 2


def collected(text: JSONText, members: dict[str, Any]) -> Iterator[list[Any]]:
    """The values of the array `features` of one object, some at a time.

    members: takes the others of the object. Raises OtherwiseError or ValueError for what is no such text.
    """
    text.take("{")
    while True:
        key = text.value()
        if not isinstance(key, str) or key in members:
            raise OtherwiseError
        text.take(":")
        if key == "features":
            members[key] = None
            yield from _array(text)
        else:
            members[key] = text.value()
        if text.peek() == "}":
            text.take("}")
            if text.peek():
                raise OtherwiseError
            return
        text.take(",")


def _array(text: JSONText) -> Generator[list[Any], None, None]:
    """The values of an array, some at a time."""
    text.take("[")
    if text.peek() == "]":
        text.take("]")
        return
    batch, start = list[Any](), text.taken
    while True:
        batch.append(text.value())
        ends = text.peek() == "]"
        if ends or len(batch) == BATCH or text.taken - start > LONG:
            yield batch
            batch, start = [], text.taken
        text.take("]" if ends else ",")
        if ends:
            return
