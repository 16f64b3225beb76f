"""deliver carry, and the options of packs that are carried to a device when they are made."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.verbs.options import Inputs, Output

CarryTo = Annotated[
    str | None,
    typer.Option(
        "--carry-to",
        metavar="FOLDER",
        help="Copy the pack to the folder of a connected device, and verify the copy.",
    ),
]
DeviceName = Annotated[
    str | None,
    typer.Option(
        "--device",
        metavar="NAME",
        help="The device whose rules apply: phone, controller, plotter, engine or a .device.toml.",
    ),
]


def carry_of(carry_to: str | None, device: str | None) -> Any:
    """The two options together."""
    from zembrel.verbs.deliver.carry import Carry

    return Carry(carry_to, device)


def carry(inputs: Inputs, output: Output, carry_to: CarryTo = None, device: DeviceName = None) -> Any:
    """Copy packs that exist to a device. All packs are checked against the rules of the device before the
    first is copied, and each copy is verified."""
    from zembrel.verbs.deliver import carry as verb

    return verb.carry(inputs, output, carry_to, device)


COMMANDS = {
    "deliver carry": Command(
        carry,
        "zembrel deliver carry island.mbtiles island.kmz --carry-to /media/phone --device phone",
        "INPUT is a pack: a file, a folder or a quoted pattern.",
    ),
}
