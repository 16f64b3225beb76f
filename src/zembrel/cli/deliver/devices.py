"""Options of packs that are carried to a device."""

from __future__ import annotations

from typing import Annotated, Any

import typer

CarryTo = Annotated[
    str | None,
    typer.Option("--carry-to", metavar="FOLDER", help="Copy it to a device that is there, and verify."),
]
DeviceName = Annotated[
    str | None,
    typer.Option(
        "--device",
        metavar="NAME",
        help="By whose rules: phone, controller, plotter, engine or a .device.toml.",
    ),
]


def carry_of(carry_to: str | None, device: str | None) -> Any:
    """The two options together."""
    from zembrel.verbs.deliver.carry import Carry

    return Carry(carry_to, device)
