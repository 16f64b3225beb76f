"""Where a newcomer starts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Output


def demo(
    output: Output,
    data_only: Annotated[bool, typer.Option("--data-only", help="Make the data, run no example.")] = False,
) -> Any:
    """Make the data of the invented Isle of Marrowick in a folder and run the worked example there,
    each command printed before it runs."""
    from zembrel.cli.tour import run_tour
    from zembrel.verbs import demo as verb

    receipt = verb.demo(output)
    if not data_only:
        run_tour(Path(receipt.facts["out"]))
    return receipt


def warm(output: Output) -> Any:
    """Compile the kernels of all verbs, on all processors, so that no first use waits for it: after an
    installation, or in a container."""
    from zembrel.verbs import warm as verb

    return verb.warm(output)


COMMANDS = {
    "demo": Command(demo, "zembrel demo --out demo/"),
    "warm": Command(warm, "zembrel warm --workers 2"),
}
