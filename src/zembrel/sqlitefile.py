"""SQLite files of others: opened for reading alone, within limits of work and of what a value holds."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from zembrel.reading import readings

# steps of SQLite's machine: after how many a look is taken, how many any file gets, and how many for a byte
_EVERY, _STEPS, _STEPS_A_BYTE = 100_000, 100_000_000, 20
# bytes of a value, which a view may make up: what any file may have, and what none may have
_LENGTH, LONGEST = 1_000_000, 256_000_000


def opened_for_reading(path: Path) -> sqlite3.Connection:
    """The database in the file at `path`. Raises sqlite3.Error.

    Work beyond the limit ends with SQLITE_INTERRUPT, a longer value with SQLITE_TOOBIG.
    """
    # what another program has written and not yet put into the file lies beside it
    live = any(_has_content(path.with_name(path.name + ending)) for ending in ("-wal", "-journal"))
    file = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro{'' if live else '&immutable=1'}", uri=True)
    file.execute("PRAGMA trusted_schema = OFF")
    size = path.stat().st_size
    longest = readings.most(min(max(size, _LENGTH), LONGEST))
    file.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, min(longest, 2**31 - 1))
    steps = iter(range(readings.most(_STEPS + _STEPS_A_BYTE * size) // _EVERY))
    file.set_progress_handler(lambda: next(steps, None) is None, _EVERY)
    return file


def _has_content(path: Path) -> bool:
    return path.exists() and path.stat().st_size > 0
