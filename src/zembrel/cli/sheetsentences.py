"""Facts of sheets in words: those that are put together, and those that are cut."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

Values = Mapping[str, Any]
_SHOWN = 5  # names of many


def first(shown: Sequence[Any], more: bool) -> str:
    return ", ".join(map(str, shown)) + " ..." * more


def more(others: int) -> str:
    return f" and {others:,} more" if others else ""


def _some(names: Sequence[str]) -> str:
    return first(names[:_SHOWN], len(names) > _SHOWN)


def _each(counts: Sequence[tuple[str, int]]) -> str:
    return _some([f"{name} {cells:,}" for name, cells in sorted(counts, key=lambda pair: -pair[1])])


def _unlike(v: Values) -> str:
    return f"{v['what']} of {v['layer']}{more(v['others'])} is {v['value']}, of most {v['usual']}"


SHEETS: Mapping[str, str | Callable[[Values], str]] = {
    "clouds_as_one": "{clouds} clouds that meet are seen as one",
    "collar_cells_left": lambda v: (
        f"{v['cells']:,} like the collar left ({_each(v['sheets'])}): --collar-tolerance takes more"
    ),
    "collar_cells_removed": lambda v: f"{v['cells']:,} cells of collars removed ({_each(v['sheets'])})",
    "collar_colour": lambda v: (
        f"collar colour {'/'.join(map(str, v['colour']))} within {v['within']}{more(v['others'])}"
    ),
    "collars_not_found": lambda v: f"no collar found around {_some(v['names'])}",
    "collars_trimmed": "collars trimmed from {trimmed} of {inputs} inputs",
    "dark_collar": lambda v: f"dark collar around {v['layer']}{more(v['others'])}: --trim-collar drops it",
    "each_point_once": "each of {points:,} points in one sheet",
    "empty_sheets": "{empty:,} empty sheets left out",
    "holes": "the sheets leave {holes} hole{holes:s} of {cells:,} cells, at {x:.10g},{y:.10g}",
    "no_empty_sheet": "no empty sheet",
    "no_gap": "no gap inside the area",
    "no_shifts": "shifts below {below:g} cell",
    "overlap": "overlap {rule}",
    "overlaps_differ": "overlaps differ {rms:.2g} rms (probed), worst pair {pair} {worst:.2g}",
    "sheet_margin": "margin {margin}",
    "sheets": "{sheets:,} sheets",
    "sheets_apart": "the sheets lie in {groups} groups apart",
    "sheets_joined_first": "{sheets} sheets share a lattice and are joined first",
    "sheets_of": "{sheets:,} sheets of up to {columns:,} x {rows:,} cells",
    "sheets_stood": "{kept:,} sheets stood already",
    "shifted": "{sheet} shifted by {cells:.2g} cells against {against}",
    "tone_kept": "tone as it is (no overlap)",
    "tone_matched": "tone matched: overlaps differed {before:.2g} rms, now {after:.2g}",
    "unlike": _unlike,
    "unlike_lattices": "sheets of unlike lattices know their neighbours",
    "split_found": "split {columns}x{rows}: the fewest sheets of at most {most:bytes}, "
    "the largest has {largest:bytes}",
    "split_planned": "split {columns}x{rows} at most: sheets of {most:bytes} without compression, "
    "which the run measures",
}
