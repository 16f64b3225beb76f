"""deliver carry: packs that exist, copied to a device; and what carries a pack that was just made."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePath
from typing import Annotated, NamedTuple

from zembrel.deliver.devices.cargo import Cargo, cargo_at
from zembrel.deliver.devices.carrying import copy_all
from zembrel.deliver.devices.device import Device, device_called
from zembrel.deliver.devices.rules import PackTraits, over_total, room_needed, unfit, unfit_name
from zembrel.engine.commit import check_free
from zembrel.errors import RefusedError, ResourceError, UsageError
from zembrel.facts import Fact, fact
from zembrel.formats.tilefolder import stands_as_tiles
from zembrel.inputs.finding import named_paths
from zembrel.inputs.options import Inputs, Output
from zembrel.measure import show_bytes
from zembrel.optiontext import OptionText
from zembrel.reading import readings
from zembrel.results.receipt import Receipt, Result


@dataclass(frozen=True)
class Carry:
    """Where a pack is carried, and to what device."""

    carry_to: Annotated[
        str | None,
        OptionText("Copy the pack to a folder of a connected device, and verify the copy.", "FOLDER"),
    ] = None
    device: Annotated[
        str | None,
        OptionText(
            "Device whose rules apply: phone, controller, plotter, engine, or a .device.toml file.", "NAME"
        ),
    ] = None


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
    _check_before(device, folder, output.path, kind)
    if not output.dry_run:
        _check_place(folder / device.folder / output.path.name, output)
    made = make()
    if made.receipt.planned:
        return made.receipt
    cargo = Cargo(output.path, made.traits, made.files)
    taken = _taken(device, folder, [cargo], (f"{output.path} is made, and ", "change what it asks for"))
    said = _carried(taken, output)
    return replace(made.receipt, checks=(*made.receipt.checks, said), seconds=output.seconds)


def carry(inputs: Inputs, output: Output, destination: Carry = NOWHERE) -> Receipt:
    """Copy packs that exist to a device, and verify the copies.

    All packs are checked before the first is copied; all of them arrive, or none. Raises UsageError,
    RefusedError for a pack that breaks a rule of the device, ResourceError where the device fails.
    """
    target = _asked(destination)
    if target is None:
        raise UsageError("the packs have no destination", "--carry-to is missing", "add --carry-to FOLDER")
    folder = Path(str(destination.carry_to))
    packs = [cargo_at(path) for path in _found(inputs)]
    for pack in packs:
        _check_before(target, folder, pack.path, pack.traits.kind)
        for source, final in pack.items(folder / target.folder):
            _check_apart(source, final)
            _check_place(final, output)
    taken = _taken(target, folder, packs, ("", "make a pack that keeps the rules"))
    paths = tuple(pack.path for pack in packs)
    place = str(folder / target.folder)
    receipt = Receipt("deliver carry", paths, place, planned=output.dry_run, touched=paths)
    if output.dry_run:
        free = shutil.disk_usage(folder).free
        planned = Result(Path(place), bytes_at_most=taken.bytes, files=taken.files, free=free)
        return replace(receipt, results=(planned,))
    return replace(receipt, checks=(_carried(taken, output),), seconds=output.seconds)


def _found(inputs: Inputs) -> list[Path]:
    """The paths that words and patterns name, each once, all of their files noted as read."""
    if not inputs.inputs:
        raise UsageError("there is no pack", "nothing can be carried", "name one or more packs")
    paths = list(dict.fromkeys(path for word in inputs.inputs for path in named_paths(word)))
    for path in paths:
        for file in _all(path) if path.exists() else []:
            readings.note(file)
    names = [path.name.casefold() for path in paths]
    twice = next((path for path in paths if names.count(path.name.casefold()) > 1), None)
    if twice is not None:
        raise UsageError(f"two packs are called {twice.name}", "one would replace the other", "rename one")
    return paths


def _check_apart(source: Path, final: Path) -> None:
    if source.resolve() == final.resolve():
        raise UsageError(f"{source} is on the device", "a pack is not copied onto itself", "leave it out")


class _Taken(NamedTuple):
    """Packs that a device takes: each file or folder with its place; their files, and bytes there."""

    device: Device
    place: Path
    items: list[tuple[Path, Path]]
    files: int
    bytes: int


def _taken(device: Device, folder: Path, packs: Sequence[Cargo], words: tuple[str, str]) -> _Taken:
    """Check packs against the device. words: what leads the first line of a refusal, and its remedy.

    Raises RefusedError for a pack that breaks a rule, ResourceError where there is no room.
    """
    lead, remedy = words
    place = folder / device.folder
    items, files = list[tuple[Path, Path]](), dict[PurePath, int]()
    for pack in packs:
        held = pack.items(place)
        sizes: dict[PurePath, int] = {final.relative_to(place) / path.relative_to(source): path.stat().st_size
                 for source, final in held for path in _all(source)}  # fmt: skip
        broken = list(unfit(device, pack.traits, sizes))
        if broken:
            what = f"{lead}the {device.title} does not take {'it' if lead else pack.path}"
            raise RefusedError(what, "; ".join(broken), f"{remedy}, or carry it to another device")
        items += held
        files |= sizes
    names = f"{len(packs)} packs" if len(packs) > 1 else "it" if lead else str(packs[0].path)
    over = over_total(device, files)
    if over is not None:
        raise RefusedError(
            f"{lead}the {device.title} does not take {names}", over, "carry fewer or smaller packs"
        )
    needed, free = room_needed(device, files), shutil.disk_usage(folder).free
    if needed > free:
        why = f"{show_bytes(needed)} are needed there, {show_bytes(free)} are free"
        again = "make room on the device, then run zembrel deliver carry"
        raise ResourceError(f"{lead}there is no room for {names} in {folder}", why, again)
    return _Taken(device, place, items, len(files), needed)


def _carried(taken: _Taken, output: Output) -> Fact:
    """Copy the packs to the device, and compare the copies."""
    compared = copy_all(taken.items, output.replace, output.tick)
    return fact("carried", device=taken.device.title, place=str(taken.place), files=compared)


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


def _check_before(device: Device, folder: Path, path: Path, kind: str) -> None:
    """Raises UsageError for what the device never takes, ResourceError if it is not there."""
    if kind not in device.kinds:
        why = f"it takes {', '.join(device.kinds)}"
        raise UsageError(f"the {device.title} takes no {kind} pack", why, "choose another --device or pack")
    why_not = unfit_name(device, path)
    if why_not is not None:
        what = f"the {device.title} takes no pack called {path.name}"
        raise UsageError(what, why_not, "choose another name")
    if not folder.is_dir():
        why = "the device is not connected, or has another name"
        raise ResourceError(f"{folder} is not there", why, "connect it, or correct --carry-to")


def _check_place(final: Path, output: Output) -> None:
    if not final.is_dir() or stands_as_tiles(final):
        check_free(final, output.replace)


def _all(source: Path) -> list[Path]:
    return [path for path in source.rglob("*") if path.is_file()] if source.is_dir() else [source]
