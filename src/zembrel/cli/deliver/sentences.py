"""Facts of packs in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from zembrel.measure import show_bytes

Values = Mapping[str, Any]
_WAYS = {"east": "east-west", "north": "north-south"}


def _of_zoom(v: Values) -> str:
    return f"cells of {v['cell']:.4g} at zoom {v['zoom']} (native {v['native']:.4g})"


def _made_square(v: Values) -> str:
    more = [f"{v[way]:,.6g} added {words}" for way, words in _WAYS.items() if v[way] > 1e-6 * v["side"]]
    return f"made square, {v['side']:,.10g} a side: {' and '.join(more)}"


PACKS: Mapping[str, str | Callable[[Values], str]] = {
    "against_source": "{rms:.3g} m rms off the source, 95 % within {ninety_five:.3g} m ({places:,} places)",
    "blocks_stood": "{blocks:,} blocks of tiles stood already",
    "cells_of_zoom": _of_zoom,
    "cells_without_heights": "{cells:,} cells without a height left out",
    "carried": "carried to {place} of the {device}: {files:,} file{files:s} verified by checksum",
    "chart_read_back": "read back, off by {most:.2g} cells at most",
    "chart_scale": "scale 1:{scale:,.0f} at {per_inch} cells an inch",
    "chips_empty": "{chips:,} empty chip{chips:s} left out",
    "chips_between": "{chips:,} left out that share cells with those to validate",
    "chips_of": "chips of {cells} cells, {overlap} shared, {sampling}",
    "chips_read_back": "{chips:,} chip{chips:s} read back, {train:,} to train, {validation:,} to validate",
    "colours_exact": "{colours} colours, all as they are",
    "colours_unlike": "{colours} colours, off by {mean:.3g} on average, 95 % by {ninety_five:.3g} (CIELAB)",
    "crs_in_metres": "{crs} (metres both ways)",
    "dates": "from {first} to {last}",
    "dates_held": "{dates:,} missing date{dates:s} held",
    "degree_cells": "{cells:,} cells of one degree, {side:,} heights a side ({seconds} arcsec)",
    "detail_levels": "{levels} level{levels:s}: {pieces:,} piece{pieces:s} of up to {cells:,} cells a side",
    "empty_tiles": "{tiles:,} empty tiles left out",
    "features_read_back": "{features:,} feature{features:s} read back",
    "heights_held_at_ends": "{cells:,} heights beyond the range held at its ends",
    "heights_in_tiles": "height is {base:g} + {step:.6g} x the number in the {way}",
    "heights_of_numbers": "0 is {low:.8g} m, 65535 is {high:.8g} m (steps of {step:.4g} m)",
    "made_square": _made_square,
    "north_at": "north at the {side}, first row the {row}",
    "no_dates": "no dates in all names: in the order given",
    "pictures_left_out": "{pictures:,} picture{pictures:s} left out",
    "nothing_to_compare": "no place to compare with the source",
    "pieces_read_back": "{pieces:,} piece{pieces:s} read back",
    "terrain_read_back": "read back: off by {most:.3g} m at most (steps of {step:.3g} m)",
    "tiles_read_back": "{tiles:,} of {pictures:,} tiles read back, each in its place",
    "validation_share": lambda v: (
        f"{100 * v['share']:.3g} % of chips for validation, in whole blocks of {v['block']:,} cells"
        + (f" (asked {100 * v['asked']:g} %)" if abs(v["share"] - v["asked"]) >= 0.005 else "")
    ),
    "two_formats": "tiles are of two formats",
    "tile_format": lambda v: (
        f"tiles {v['format'].upper()} ({v['why']}), about {show_bytes(v['bytes'])} in all; "
        + ", ".join(f"{name.upper()} {show_bytes(size)}" for name, size in v["others"])
    ),
    "void_white": "void cells white: JPEG holds no opacity (--flatten says another colour)",
    "voids_filled": "{cells:,} voids at {height:.6g} m",
    "voids_in_cells": "{voids:,} voids",
    "zooms": "zooms {lowest} to {highest} of {tiling}, tiles of {cells} cells",
}
