"""Tables as CSV text (RFC 4180, lines ended by a line feed)."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any


def csv_text(header: Sequence[str], rows: Sequence[Sequence[Any]]) -> str:
    """A line of names and one for each row; numbers to 10 digits, nothing for None."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(header)
    for row in rows:
        writer.writerow([f"{value:.10g}" if isinstance(value, float) else value for value in row])
    return text.getvalue()
