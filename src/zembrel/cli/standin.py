"""Simulated devices."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.errors import UsageError
from zembrel.verbs.options import Output


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


def serve(
    output: Output,
    words: Annotated[list[str] | None, typer.Argument(hidden=True)] = None,
    port: Annotated[int, typer.Option("--port", metavar="N", help="Where it listens.")] = 8046,
    host: Annotated[
        str, typer.Option("--host", metavar="NAME", help="On which of this machine's names.")
    ] = "127.0.0.1",
    fault: Annotated[
        list[str] | None,
        typer.Option(
            "--fault",
            metavar="KEY=VALUE",
            help="fail=0.2, slow=0.1 (seconds=2), garbage, cut, packed: shares of answers; "
            "dead=PATH; version=913.",
        ),
    ] = None,
    signed: Annotated[
        float, typer.Option("--signed", metavar="SECONDS", help="Addresses of images hold for so long.")
    ] = 0.0,
) -> Any:
    """[FOLDER]: a server with the island of the demo data behind every kind of service, until it is
    interrupted. What goes wrong there is also set by its address /faults?fail=0.2."""
    from zembrel.errors import UsageError
    from zembrel.verbs import serve as verb

    given = words or []
    if len(given) > 1:
        raise UsageError(
            f"{len(given)} folders", "one has the demo data", "write zembrel standin serve demo/"
        )
    return verb.serve(
        output, given[0] if given else None, verb.Serving(host, port, tuple(fault or ()), signed)
    )


COMMANDS = {
    "standin serve": Command(serve, "zembrel standin serve demo/ --port 8046"),
    "standin device": Command(device, "zembrel standin device phone island.mbtiles --figure phone.png"),
}
