"""Which layers of a file are meant by a phrase."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from fnmatch import fnmatchcase

from zembrel.errors import InputError


def layer_choice(layer: str | None, names: Callable[[], Sequence[str]]) -> list[str | None]:
    """The layers that `layer` asks for: one name, several with commas between them, or patterns.

    names: asked only where it matters. A comma inside brackets, as in `flow[time=2026-05-04,level=20]`,
    separates nothing. Raises InputError, with what there is, for a pattern that fits nothing.
    """
    if layer is None or not re.search(r"[,*?]", re.sub(r"\[[^\]]*\]", "", layer)):
        return [layer]
    there = names()
    if layer in there:
        return [layer]
    chosen: list[str | None] = []
    for word in re.findall(r"(?:[^,\[]|\[[^\]]*\]?)+", layer):
        word = word.strip()
        bare, bracket, _ = word.partition("[")
        fitting = [
            f"{name}{word[len(bare) :]}" if bracket else name
            for name in there
            if fnmatchcase(name, bare) or name == word
        ]
        if not fitting and re.search(r"[*?]", bare):
            raise InputError(
                f"no layer fits {word!r}", f"there are {', '.join(there[:12])}", "check the pattern"
            )
        chosen += fitting or [word]
    return list(dict.fromkeys(chosen))
