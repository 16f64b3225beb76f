"""The progress bar: real blocks, and the time left from the measured rate; of a job also its steps."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager

from zembrel.progress import Progress, Tick, no_tick


@contextmanager
def shown_progress(verb: str, wanted: bool | None, silent: bool) -> Iterator[Tick]:
    """A tick that moves a bar on stderr; does nothing unless wanted or on a terminal."""
    if silent or not (wanted or (wanted is None and sys.stderr.isatty())):
        yield no_tick
        return
    from rich.console import Console
    from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    columns = (
        TextColumn("{task.description}", markup=False),
        BarColumn(),
        TextColumn("{task.percentage:>3.0f} %", markup=False),
        TextColumn("{task.fields[blocks]}", markup=False),
        TimeRemainingColumn(),
    )
    with Bar(*columns, console=Console(stderr=True, markup=False), transient=True) as bar:
        task, whole = bar.add_task(verb, total=None, blocks="0 blocks"), None

        def tick(done: Progress) -> None:
            nonlocal whole
            if done.all_steps:
                whole = bar.add_task("job", total=None, blocks="") if whole is None else whole
                share = done.steps + (done.cells / done.all_cells if done.all_cells else 0)
                steps = f"{done.steps:,} of {done.all_steps:,} steps"
                bar.update(whole, total=done.all_steps, completed=share, blocks=steps)
            if done.all_blocks:
                blocks = f"{done.blocks:,} of {done.all_blocks:,} blocks"
                name = done.step or verb
                bar.update(task, description=name, total=done.all_cells, completed=done.cells, blocks=blocks)

        yield tick
