"""Patterns of a job file, seen from its folder."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

_SIGNS = "*?["


def is_pattern(word: str) -> bool:
    """Whether a word stands for the files that fit it."""
    return any(sign in word for sign in _SIGNS)


def matching(pattern: str, folder: Path) -> Iterator[Path]:
    """What fits a pattern, which may also begin at the root; nothing where it is none that a system knows."""
    whole = Path(pattern)
    root, rest = (
        (Path(whole.anchor), str(whole.relative_to(whole.anchor))) if whole.anchor else (folder, pattern)
    )
    try:
        yield from root.glob(rest)
    except (ValueError, NotImplementedError, OSError):
        return
