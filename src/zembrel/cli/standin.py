"""Simulated devices."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.errors import UsageError
from zembrel.verbs.options import Output

_NOT_HERE = (
    "out", "format", "type", "nodata", "flatten", "stored", "compress", "settings", "world_file", "into",
    "dry_run", "ceiling", "memory", "workers", "keep_going", "keep_empty",
)  # fmt: skip


def device(
    output: Output,
    words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None,
    figure: Annotated[
        str | None, typer.Option("--figure", metavar="PNG", help="What the device shows of it.")
    ] = None,
) -> Any:
    """NAME PACK: does a device accept a pack? controller (tiles in a folder or zip), phone (.mbtiles,
    .pmtiles, .kmz), plotter (.kap), engine (the folder of a heightmap). Each reads by published rules, with
    code of its own. Exit code 1 if it rejects."""
    from zembrel.verbs import standin as verb

    given = words or []
    if len(given) != 2:
        what = f"{len(given)} words for a device and a pack"
        raise UsageError(what, "two are needed", "write zembrel standin device phone island.mbtiles")
    return verb.device(output, given[0], given[1], figure)


COMMANDS = {
    "standin device": Command(
        device, "zembrel standin device phone island.mbtiles --figure phone.png", _NOT_HERE
    ),
}
