"""The time that results carry: that of their inputs, so that the same work gives the same bytes.

Source: reproducible-builds.org, "SOURCE_DATE_EPOCH specification", version 1.1.
"""

from __future__ import annotations

import os
from datetime import UTC, datetime

from zembrel.errors import UsageError
from zembrel.reading import readings

_EARLIEST = datetime(1980, 1, 1, tzinfo=UTC)  # that archives can hold


def time_of_writing() -> datetime:
    """Return the time for what is written now, in UTC.

    It is SOURCE_DATE_EPOCH if that is set, else the time of the last change of the inputs, else 1980-01-01.
    It is never the present time. Raises UsageError for a SOURCE_DATE_EPOCH that is not a number of seconds.
    """
    said = os.environ.get("SOURCE_DATE_EPOCH")
    try:
        seconds = float(said) if said else readings.newest
        return _EARLIEST if seconds is None else datetime.fromtimestamp(seconds, UTC)
    except (ValueError, OverflowError, OSError) as exc:
        what, why = f"SOURCE_DATE_EPOCH is {said!r}", "it is a number of seconds since 1970"
        raise UsageError(what, why, "unset it, or set it to 1800000000") from exc


def archive_time() -> tuple[int, int, int, int, int, int]:
    """Return the same time for an entry of a zip archive: year to second, from 1980 on."""
    now = max(time_of_writing(), _EARLIEST)
    return now.year, now.month, now.day, now.hour, now.minute, now.second
