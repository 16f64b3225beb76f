"""Which version of the program this is."""

from __future__ import annotations

from functools import cache


@cache
def program_version() -> str:
    """As the installed package says it."""
    from importlib.metadata import version

    return version("zembrel")
