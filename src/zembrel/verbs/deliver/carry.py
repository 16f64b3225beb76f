"""Packs carried to a device, by the rules of that."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path, PurePath

from zembrel.deliver.devices.carrying import copy_all
from zembrel.deliver.devices.device import Device, device_called
from zembrel.deliver.devices.rules import PackTraits, room_needed, unfit, unfit_name
from zembrel.engine.commit import check_free
from zembrel.errors import RefusedError, ResourceError, UsageError
from zembrel.facts import fact
from zembrel.formats.tilefolder import stands_as_tiles
from zembrel.measure import show_bytes
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import Receipt


@dataclass(frozen=True)
class Carry:
    """Where a pack is carried, and to what device."""

    carry_to: str | None = None
    device: str | None = None


NOWHERE = Carry()


@dataclass(frozen=True)
class DeliveredPack:
    """A receipt, and what a device asks of the pack it tells of; files: those that belong to it."""

    receipt: Receipt
    traits: PackTraits
    files: tuple[Path, ...] = ()


def carried(carry: Carry, output: Output, kind: str, make: Callable[[], DeliveredPack]) -> Receipt:
    """What `make` makes, carried to the device if that is asked for.

    Raises UsageError or RefusedError before anything is made where the device could not take it, RefusedError
    after that where it breaks a rule of the device, ResourceError where the device fails.
    """
    device = _asked(carry)
    if device is None:
        return make().receipt
    folder = Path(str(carry.carry_to))
    _check_before(device, folder, output, kind)
    made = make()
    if made.receipt.planned:
        return made.receipt
    items = _items(made, folder / device.folder, output)
    files = {PurePath(final.name) / path.relative_to(source): path.stat().st_size
             for source, final in items for path in _all(source)}  # fmt: skip
    broken = list(unfit(device, made.traits, files))
    if broken:
        what = f"{output.path} is made, and the {device.title} does not take it"
        raise RefusedError(what, "; ".join(broken), "change what it asks for, or carry it to another device")
    needed, free = room_needed(device, files), shutil.disk_usage(folder).free
    if needed > free:
        what = f"{output.path} is made, and there is no room for it in {folder}"
        why = f"it takes {show_bytes(needed)} there, {show_bytes(free)} are free"
        raise ResourceError(what, why, "make room on the device, then carry it again with --replace")
    compared = copy_all(items, output.replace, output.tick)
    said = fact("carried", device=device.title, place=str(folder / device.folder), files=compared)
    return replace(made.receipt, checks=(*made.receipt.checks, said), seconds=output.seconds)


def _asked(carry: Carry) -> Device | None:
    if carry.carry_to is None:
        if carry.device is not None:
            what = f"--device {carry.device} without --carry-to"
            raise UsageError(what, "its rules are heeded where a pack goes there", "add --carry-to FOLDER")
        return None
    if carry.device is None:
        what = f"--carry-to {carry.carry_to} without --device"
        raise UsageError(what, "each takes other packs", "add --device phone, or a *.device.toml file")
    return device_called(carry.device)


def _check_before(device: Device, folder: Path, output: Output, kind: str) -> None:
    """Raises UsageError for what the device never takes, ResourceError if it is not there."""
    if kind not in device.kinds:
        why = f"it takes {', '.join(device.kinds)}"
        raise UsageError(f"the {device.title} takes no {kind} pack", why, "choose another --device or --out")
    why_not = unfit_name(device, output.path)
    if why_not is not None:
        what = f"the {device.title} takes no pack called {output.path.name}"
        raise UsageError(what, why_not, "choose another --out")
    if not folder.is_dir():
        why = "the device is not connected, or has another name"
        raise ResourceError(f"{folder} is not there", why, "connect it, or correct --carry-to")
    if not output.dry_run:
        _check_place(folder / device.folder / output.path.name, output)


def _check_place(final: Path, output: Output) -> None:
    if not final.is_dir() or stands_as_tiles(final):
        check_free(final, output.replace)


def _items(made: DeliveredPack, folder: Path, output: Output) -> list[tuple[Path, Path]]:
    """Each file or folder of a pack, and where it goes; some files of a folder have one there too."""
    if not made.files:
        return [(output.path, folder / output.path.name)]
    return [(path, folder / output.path.name / path.name) for path in made.files]


def _all(source: Path) -> list[Path]:
    return [path for path in source.rglob("*") if path.is_file()] if source.is_dir() else [source]
