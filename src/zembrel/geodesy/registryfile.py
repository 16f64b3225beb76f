"""The registry file: the EPSG Geodetic Parameter Dataset (owned by IOGP) as rows of SQLite.

`tools/registry.py` makes it. Everything here answers in rows as they are registered; what they mean is
for `registry` to say. Its terms of use lie beside it.
"""

from __future__ import annotations

import sqlite3
import threading
from functools import lru_cache
from pathlib import Path
from typing import Any

from zembrel.errors import InputError

PATH = Path(__file__).with_name("registry.sqlite")
_lock = threading.Lock()


@lru_cache(maxsize=1)
def _connection() -> sqlite3.Connection:
    made = sqlite3.connect(f"{PATH.as_uri()}?mode=ro&immutable=1", uri=True, check_same_thread=False)
    made.row_factory = sqlite3.Row
    return made


def rows(query: str, *arguments: Any) -> list[sqlite3.Row]:
    """All rows that `query` finds."""
    with _lock:
        try:
            return _connection().execute(query, arguments).fetchall()
        except OverflowError:  # a code of more than 63 bits is nobody's
            return []


def registered(table: str, code: int) -> sqlite3.Row:
    """The row of `code` in a table. Raises InputError if there is none."""
    found = row(f"SELECT * FROM {table} WHERE code = ?", code)
    if found is None:
        raise InputError(
            f"EPSG:{code} is no {table} of the registry",
            "what it stands for is unknown",
            "check where it comes from",
        )
    return found


def row(query: str, *arguments: Any) -> sqlite3.Row | None:
    """The first row that `query` finds, or None."""
    found = rows(query, *arguments)
    return found[0] if found else None
