"""A page for a browser on which packs in folders are panned, zoomed and laid over each other."""

from __future__ import annotations

import html
import json
import os
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from string import Template
from typing import Any

from zembrel.errors import InputError
from zembrel.formats.tilefolder import TILE_INDEX
from zembrel.reading import readings

_FINEST = 30  # zoom
_PLACED = ("WebMercatorQuad", "WorldCRS84Quad")  # whose places the page knows


def viewer_page(title: str, layers: Sequence[dict[str, Any]]) -> str:
    """The page. layers: what the `tiles.json` of packs says, with the way to their tiles from the page."""
    text = json.dumps(list(layers)).replace("<", "\\u003c")  # so that no name ends the script
    page = (files(__package__) / "viewer.html").read_text("utf-8")
    return Template(page).substitute(title=html.escape(title), layers=text)


def layer_beside(page: Path, folder: Path, facts: dict[str, Any] | None = None) -> dict[str, Any]:
    """What a folder of tiles says of itself, as seen from `page`. Raises InputError for any other."""
    if facts is None:
        try:
            facts = json.loads(readings.note(folder / TILE_INDEX).read_text("utf-8"))
        except (OSError, ValueError) as exc:
            raise InputError(
                f"{folder} is no folder of tiles", f"{exc}", "name one that deliver made"
            ) from exc
        _check(folder, facts)
    if not isinstance(facts, dict) or facts.get("tile_matrix_set") not in _PLACED:
        why = f"the page shows {' and '.join(_PLACED)}"
        raise InputError(f"{folder} cannot be shown", why, "deliver it once more in one of these")
    way = os.path.relpath(folder, page.parent).replace(os.sep, "/")
    return facts | {"tiles": [f"{way}/{facts['tiles'][0]}"]}


def _check(folder: Path, facts: Any) -> None:
    """Raise InputError for a `tiles.json` that the page could not show: it may come from anywhere."""
    facts = facts if isinstance(facts, dict) else {}
    zooms = facts.get("minzoom"), facts.get("maxzoom")
    tiles, bounds = facts.get("tiles"), facts.get("bounds")
    sound = {
        "minzoom and maxzoom": all(type(zoom) is int and 0 <= zoom <= _FINEST for zoom in zooms),
        "tiles": isinstance(tiles, list) and bool(tiles) and all(_is_within(way) for way in tiles),
        "bounds": _is_box(bounds),
        "extent": _is_box(facts.get("extent", bounds)),
        "name": isinstance(facts.get("name", ""), str),
        "attribution": isinstance(facts.get("attribution", ""), str),
        "scheme": facts.get("scheme", "xyz") in ("xyz", "tms"),
        "tile_cells": type(facts.get("tile_cells", 256)) is int,
    }
    odd = next((key for key, holds in sound.items() if not holds), None)
    if odd is not None:
        what = f"{folder / TILE_INDEX} is damaged"
        raise InputError(what, f"its {odd} cannot be those of a pack", "deliver the pack once more")


def _is_box(bounds: object) -> bool:
    """Whether these are four numbers of degrees."""
    return (
        isinstance(bounds, list)
        and len(bounds) == 4
        and all(type(n) in (int, float) and abs(n) <= 720 for n in bounds)
    )


def _is_within(way: object) -> bool:
    """Whether a pattern of tiles stays in its folder."""
    return (
        isinstance(way, str) and "{z}" in way and ".." not in way and ":" not in way and way[:1] not in "/\\"
    )
