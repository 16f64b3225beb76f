"""Colours of a terminal: for headings, first words of receipts, and errors; none where nobody sees them.

Source: ECMA-48, select graphic rendition; no-color.org for the variable that forbids them.
"""

from __future__ import annotations

import os
import sys
from typing import TextIO

WIDEST = 110  # columns of help: longer lines are hard to follow
_BOLD, _RED, _GREEN, _YELLOW = "1", "31;1", "32", "33"
_WORDS = {"wrote": _GREEN, "plan": _GREEN, "lost": _YELLOW, "error:": _RED, "try:": _BOLD, "note:": _YELLOW}


def heading(text: str) -> str:
    """A heading of help, on stdout."""
    return _painted(text, _BOLD, sys.stdout)


def lead(word: str, width: int) -> str:
    """The first word of a line on stderr, padded to `width`."""
    return _painted(word, _WORDS.get(word, _BOLD), sys.stderr) + " " * (width - len(word))


def _painted(text: str, code: str, stream: TextIO) -> str:
    seen = stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    return f"\x1b[{code}m{text}\x1b[0m" if seen else text
