"""The steps of a job as a picture."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.draw.colouring import Look
from zembrel.draw.stepgraph import GraphStep, draw_steps
from zembrel.engine.commit import Staging, resource_errors
from zembrel.measure import show_bytes
from zembrel.results.endings import PICTURES, check_ending

_MOST = 30  # boxes; of more, those of one step in the file are one
_GRAVE = (
    "failed",
    "not run",
    "to run",
    "ran",
    "empty",
    "unchanged",
)  # the state of several is the first that is there


def check_figure(figure: str | None) -> None:
    """Raise UsageError for an ending that is no picture's."""
    if figure is not None:
        check_ending(Path(figure), PICTURES)


def draw_job(rows: Sequence[Mapping[str, Any]], title: str, figure: Path, *, replace: bool) -> None:
    """Draw the chains of a job. Raises ResourceError, and RefusedError for a file that is there."""
    steps = [_box(row["id"], [row]) for row in rows]
    if len(steps) > _MOST:
        names = dict.fromkeys(row["name"] for row in rows)
        steps = [_box(name, [row for row in rows if row["name"] == name]) for name in names]
    counts = {state: sum(row["state"] == state for row in rows) for state in _GRAVE}
    heading = f"{len(rows):,} steps: " + ", ".join(f"{n:,} {state}" for state, n in counts.items() if n)
    with Staging(replace) as staging:
        staged = staging.path_for(figure)
        with resource_errors(figure):
            draw_steps(steps, title, heading, staged, Look())
        staging.publish()


def _box(name: str, rows: Sequence[Mapping[str, Any]]) -> GraphStep:
    """One step, or all that are made of one in the file."""
    first = rows[0]
    verbs = " + ".join([*(one["verb"] for one in first.get("with", ())), first["verb"]])
    most = sum(row.get("bytes_at_most", 0) for row in rows)
    made = sum(row.get("bytes", 0) for row in rows)
    size = f"at most {show_bytes(most)}" if most else show_bytes(made) if made else ""
    out = first.get("out", "")
    many = len(rows) > 1
    lines = (f"{verbs}, {size}" if size else verbs, f"{len(rows):,} steps, the first: {out}" if many else out)
    needs = dict.fromkeys(need.partition("[")[0] if many else need for row in rows for need in row["needs"])
    state = next(state for state in _GRAVE if any(row["state"] == state for row in rows))
    return GraphStep(name, tuple(line for line in lines if line), state, tuple(needs))
