"""How long it takes to begin: help against importing Typer."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from measure import ZEMBREL, Result, in_turn


def cases(folder: Path) -> Iterator[Result]:
    ours, typer = in_turn([*ZEMBREL, "--help"], [sys.executable, "-c", "import typer"], 15)
    note = f"{1000 * ours.seconds:.0f} ms against {1000 * typer.seconds:.0f} ms"
    yield Result("zembrel --help against importing Typer", ours.seconds / typer.seconds, 2.5, note=note)
