"""Receipts: what a verb read, chose, wrote and checked, in numbers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zembrel.formats.handles import size_on_disk
from zembrel.formats.web import traffic
from zembrel.geodesy.crs import CRS, label
from zembrel.grid.frame import Frame
from zembrel.grid.framefile import crs_text
from zembrel.measure import show_bytes, show_number
from zembrel.reading import readings

LOSSES = 7  # exit code of a run that ended with listed losses


Lines = tuple[tuple[str, tuple[str, ...]], ...]


@dataclass(frozen=True)
class Receipt:
    """`lines` are for people, (word, items) each; `facts` are the same for programs."""

    verb: str
    title: str
    lines: Lines = ()
    facts: dict[str, Any] = field(default_factory=dict)
    exit_code: int = 0
    data: str | None = None  # what was asked for, for verbs that print it


def finished(receipt: Receipt) -> Receipt:
    """`receipt` with a line about what was asked of the web, if anything was; empty results are losses."""
    empty = [facts for facts in receipt.facts.get("results", ()) if facts.get("valid") == 0]
    if (empty or receipt.facts.get("features") == 0) and not receipt.exit_code:
        receipt = replace(receipt, exit_code=LOSSES)
    receipt = _with_passed(receipt)
    told = traffic.told()
    if told is None:
        return receipt
    facts = {"requests": traffic.requests, "bytes": traffic.bytes, "size": sum(traffic.sizes.values())}
    lines = (*receipt.lines, ("web", (told,))) if receipt.lines else receipt.lines
    return replace(receipt, lines=lines, facts=receipt.facts | {"web": facts})


def _with_passed(receipt: Receipt) -> Receipt:
    """`receipt` with a word on files of folders that were not taken, if there were any."""
    passed = readings.passed
    if not passed or not receipt.lines:
        return receipt
    shown = ", ".join(path.name for path in passed[:3]) + (" ..." if len(passed) > 3 else "")
    word = f"{len(passed)} other file{'s' * (len(passed) != 1)} in folders left alone: {shown}"
    lines: list[tuple[str, tuple[str, ...]]] = list(receipt.lines)
    at = next(
        (n for n, (name, _) in enumerate(lines) if name in ("chose", "checks", "wrote", "plan")),
        len(lines),
    )
    if at < len(lines) and lines[at][0] == "chose":
        lines[at] = ("chose", (*lines[at][1], word))
    else:
        lines.insert(at, ("chose", (word,)))
    left = [str(path) for path in passed]
    return replace(receipt, lines=tuple(lines), facts=receipt.facts | {"left_alone": left})


def named(paths: Sequence[Path]) -> str:
    """`6 inputs (a.tif ... f.tif)`, or the one path."""
    if len(paths) == 1:
        return str(paths[0])
    return f"{len(paths)} inputs ({paths[0]} ... {paths[-1]})"


def reads(paths: Sequence[Path]) -> tuple[str, tuple[str, ...]]:
    """The line of a plan that says which inputs would be read."""
    size = sum(size_on_disk(path) for path in paths)
    shown = [str(path) for path in paths[:3]] + (["..."] if len(paths) > 3 else [])
    return "reads", (f"{len(paths):,} input{'s' if len(paths) != 1 else ''}, {show_bytes(size)}", *shown)


def frame_items(frame: Frame) -> tuple[str, ...]:
    """CRS, cell size and extent in cells, for the receipt."""
    turned = () if frame.north_up else ("turned",)
    nodes = ("values on nodes",) if frame.registration == "node" else ()
    size = f"{frame.columns:,} x {frame.rows:,} cells"
    return (label(frame.crs), show_cell(frame), size, *nodes, *turned)


def show_cell(frame: Frame) -> str:
    """`0.5 m`, `2 x 3 m` or `1 arcsec`."""
    across, along = frame.cell
    unit = unit_sign(frame.crs)
    if unit == "deg" and max(across, along) < 0.1:
        across, along, unit = across * 3600, along * 3600, "arcsec"
    same = abs(across - along) <= 1e-9 * across
    return f"{across:.7g} {unit}" if same else f"{across:.7g} x {along:.7g} {unit}"


def unit_sign(crs: CRS | None) -> str:
    """Short sign of the unit of coordinates."""
    if crs is None:
        return "(no unit)"
    return {"metre": "m", "degree": "deg", "foot": "ft", "US survey foot": "usft"}.get(
        crs.unit.name, crs.unit.name
    )


def frame_facts(frame: Frame) -> dict[str, Any]:
    """The frame for programs."""
    west, south, east, north = frame.bounds
    return {
        "crs": crs_text(frame.crs) if frame.crs else None,
        "crs_name": frame.crs.name if frame.crs else None,
        "bounds": [west, south, east, north],
        "cell": list(frame.cell),
        "columns": frame.columns,
        "rows": frame.rows,
        "registration": frame.registration,
    }


def show_table(rows: Sequence[Sequence[str]]) -> str:
    """Rows of words in columns, two blanks apart at least."""
    widths = [max(len(row[n]) for row in rows) + 3 for n in range(len(rows[0]))]
    lines = ("".join(f"{cell:<{w}}" for cell, w in zip(row, widths, strict=True)).rstrip() for row in rows)
    return "\n".join(lines) + "\n"


def show_bounds(frame: Frame) -> str:
    """West, south, east and north with as many digits as the cell size asks for."""
    digits = 6 if unit_sign(frame.crs) == "deg" else 2
    return "  ".join(
        f"{side} {show_number(round(value, digits))}"
        for side, value in zip("WSEN", frame.bounds, strict=True)
    )
