"""Names of classes that a file brings along: LAS Specification 1.4 R15, classification lookup."""

from __future__ import annotations

from collections.abc import Iterable

from zembrel.points.las.vlr import Record

KEY = ("LASF_Spec", 0)
_ENTRY = 16  # bytes: a number and 15 of its name


def class_names(records: Iterable[Record]) -> dict[int, str]:
    """Names of classes by number, as far as records tell them."""
    data = next((record.data for record in records if record.key == KEY), b"")
    entries = (data[at : at + _ENTRY] for at in range(0, len(data) - _ENTRY + 1, _ENTRY))
    named = {entry[0]: entry[1:].partition(b"\0")[0].decode("latin-1").strip() for entry in entries}
    return {number: name for number, name in named.items() if name}
