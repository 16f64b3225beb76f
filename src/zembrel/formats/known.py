"""The raster formats that are at hand: those of the catalogue, and what other packages add."""

from __future__ import annotations

from functools import cache

from zembrel.errors import UsageError, nearest_name
from zembrel.formats.catalogue import FORMATS
from zembrel.formats.form import Format

GROUP = "zembrel.formats"


@cache
def added_formats() -> dict[str, Format]:
    """The formats that installed packages add. Raises UsageError for one that is no `Format`."""
    from importlib import metadata

    found: dict[str, Format] = {}
    for point in metadata.entry_points(group=GROUP):
        form = point.load()
        if not isinstance(form, Format) or point.name in FORMATS:
            raise UsageError(
                f"the installed format {point.name!r} cannot be used",
                f"{point.value} is not a new zembrel.formats.catalogue.Format",
                "update or remove the package that adds it",
            )
        found[point.name] = form
    return found


def all_formats() -> dict[str, Format]:
    """Every format by name: ours, then those that packages add."""
    return FORMATS | added_formats()


def format_named(name: str) -> Format:
    """The format called `name`. Raises UsageError, with the near miss, if there is none."""
    form = FORMATS.get(name.lower()) or added_formats().get(name.lower())
    if form is None:
        raise UsageError(
            f"there is no format {name!r}", "see zembrel formats", nearest_name(name, all_formats())
        )
    return form
