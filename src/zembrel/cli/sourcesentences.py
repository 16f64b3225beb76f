"""Facts of sources in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from zembrel.measure import show_bytes

Values = Mapping[str, Any]


def _pieces(v: Values) -> str:
    kept = f", {v['kept']:,} kept from before" if v["kept"] else ""
    size = f" (about {show_bytes(v['bytes'])})" if v["bytes"] else ""
    return f"{v['pieces']:,} piece{'s' * (v['pieces'] != 1)} asked for{size}{kept}"


def _removed(v: Values) -> str:
    return f"{v['path']} is removed, and {v['bytes']:,} bytes that were kept of it"


SOURCES: Mapping[str, str | Callable[[Values], str]] = {
    "attribution": "attribution: {credit}",
    "blocks_met": "{blocks:,} of {of:,} blocks meet the area",
    "cache_cleared": "{bytes:,} bytes of {sources} source{sources:s} cleared",
    "pieces_asked": _pieces,
    "source_answers": "answers in {milliseconds:,} ms, with {offers} offer{offers:s}",
    "source_removed": _removed,
    "source_saved": "{name}, {kind}: {how}",
}
