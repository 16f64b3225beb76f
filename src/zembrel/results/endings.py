"""Names of pictures and pages that verbs make beside their results."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zembrel.errors import UsageError

PICTURES = (".png", ".pdf", ".svg", ".jpg")
BROWSER_PAGES = (".html", ".htm")


def check_ending(out: Path, endings: Sequence[str], what: str = "picture") -> None:
    """Raise UsageError for a name that says no format of the kind."""
    if out.suffix.lower() not in endings:
        raise UsageError(
            f"{out.name} is no {what} name",
            f"its ending is {out.suffix!r}",
            "end it in " + ", ".join(endings),
        )
