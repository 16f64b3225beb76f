"""Steps of a job as boxes in the order in which they need each other, from left to right.

Boxes of a column stand where those they need stand on average. Source: Sugiyama, Tagawa and Toda, "Methods
for visual understanding of hierarchical system structures" (1981).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from zembrel.draw.colouring import Look
from zembrel.draw.layout import new_figure, save
from zembrel.draw.ticks import INK

# edge and filling of a box by state; distinct for readers of any colour vision (Okabe and Ito, 2008)
_COLOURS = {
    "to run": ("#d55e00", "#fdf0e6"), "ran": ("#009e73", "#e8f6f1"), "failed": ("#b00020", "#fbe9ec"),
    "not run": ("#999999", "#ffffff"), "unchanged": ("#8a8f94", "#f3f4f5"),
    "empty": ("#0072b2", "#ffffff"),
}  # fmt: skip
_TOP, _SIDE, _FOOT = 92, 30, 50  # pixels
_WIDEST, _HIGHEST = 250.0, 92.0  # of a box
_SWEEPS = 8


class GraphStep(NamedTuple):
    """A box: what it is called, lines below that, its state, and the boxes it needs."""

    id: str
    lines: tuple[str, ...]
    state: str
    needs: tuple[str, ...]


def draw_steps(steps: Sequence[GraphStep], title: str, heading: str, path: Path, look: Look) -> None:
    """Draw boxes, each with arrows from those it needs."""
    figure = new_figure(look.width, look.height)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, look.width)
    axes.set_ylim(0, look.height)
    axes.axis("off")
    axes.text(_SIDE, look.height - 40, title, fontsize=15, color=INK, va="center")
    axes.text(_SIDE, look.height - 66, heading, fontsize=9, color="#555", va="center")
    columns = _columns(steps)
    room = (look.width - 2 * _SIDE) / len(columns)
    tall = (look.height - _TOP - _FOOT) / max(map(len, columns))
    size = min(_WIDEST, room * 0.78), min(_HIGHEST, tall * 0.86)
    places = {
        step.id: (
            _SIDE + room * (n + 0.5),
            _FOOT + (look.height - _TOP - _FOOT) * (1 - (row + 0.5) / len(column)),
        )
        for n, column in enumerate(columns)
        for row, step in enumerate(column)
    }
    for step in steps:
        for need in step.needs:
            _arrow(axes, places[need], places[step.id], size)
    pitch = min(19.0, (size[1] - 6) / max(1 + len(step.lines) for step in steps))
    for step in steps:
        _box(axes, step, (*places[step.id], *size), pitch)
    _key(axes, steps, look)
    save(figure, path)


def _columns(steps: Sequence[GraphStep]) -> list[list[GraphStep]]:
    """Boxes by how many stand before them at most, those of a column in an order with few crossings."""
    depth: dict[str, int] = {}
    for step in steps:  # each after those it needs
        depth[step.id] = max((depth[need] + 1 for need in step.needs), default=0)
    columns: list[list[GraphStep]] = [[] for _ in range(max(depth.values()) + 1)]
    for step in steps:
        columns[depth[step.id]].append(step)
    users: Mapping[str, list[str]] = {step.id: [s.id for s in steps if step.id in s.needs] for step in steps}
    for sweep in range(_SWEEPS):
        place = {s.id: (n + 0.5) / len(column) for column in columns for n, s in enumerate(column)}
        for column in columns:
            near = {s.id: (s.needs if sweep % 2 == 0 else users[s.id]) for s in column}
            weight = {id: sum(place[o] for o in others) / len(others) if others else place[id]
                      for id, others in near.items()}  # fmt: skip
            column.sort(key=lambda step: weight[step.id])
            place |= {step.id: (n + 0.5) / len(column) for n, step in enumerate(column)}
    return columns


def _arrow(
    axes: Any, start: tuple[float, float], end: tuple[float, float], size: tuple[float, float]
) -> None:
    from matplotlib.patches import FancyArrowPatch
    from matplotlib.path import Path as Curve

    (x1, y1), (x2, y2) = (start[0] + size[0] / 2, start[1]), (end[0] - size[0] / 2 - 2, end[1])
    bend = (x2 - x1) * 0.5
    curve = Curve(
        [(x1, y1), (x1 + bend, y1), (x2 - bend, y2), (x2, y2)],
        [Curve.MOVETO, Curve.CURVE4, Curve.CURVE4, Curve.CURVE4],
    )
    style = "-|>,head_length=5,head_width=2.6"
    axes.add_patch(FancyArrowPatch(path=curve, arrowstyle=style, color="#9aa0a6", linewidth=1.1))


def _box(axes: Any, step: GraphStep, place: tuple[float, float, float, float], pitch: float) -> None:
    """A box; place: its middle, width and height; pitch: pixels from line to line."""
    from matplotlib.patches import FancyBboxPatch

    edge, fill = _COLOURS[step.state]
    x, y, wide, high = place
    shape = "round,pad=0,rounding_size=6"
    box = FancyBboxPatch((x - wide / 2, y - high / 2), wide, high, shape, edgecolor=edge, facecolor=fill)
    axes.add_patch(box)
    lines = (step.id, *step.lines)
    points = max(4.5, min(9.5, pitch * 0.58))
    for n, line in enumerate(lines):
        weight = "bold" if n == 0 else "normal"
        at = y + pitch * ((len(lines) - 1) / 2 - n)
        fitted = _fitted(line, (wide - 16) / (points * (0.82 if n == 0 else 0.72)))
        axes.text(
            x - wide / 2 + 9, at, fitted, fontsize=points, color=INK if n == 0 else "#444", va="center",
            weight=weight, parse_math=False,
        )  # fmt: skip


def _fitted(line: str, most: float) -> str:
    """A line of so many letters at most."""
    return line if len(line) <= most else line[: max(1, int(most) - 1)] + "…"


def _key(axes: Any, steps: Sequence[GraphStep], look: Look) -> None:
    from matplotlib.patches import Rectangle

    x = float(_SIDE)
    for state in dict.fromkeys(step.state for step in steps):
        edge, fill = _COLOURS[state]
        axes.add_patch(Rectangle((x, 18), 14, 12, edgecolor=edge, facecolor=fill))
        axes.text(x + 21, 24, state, fontsize=9, color="#444", va="center")
        x += 44 + 8.5 * len(state)
