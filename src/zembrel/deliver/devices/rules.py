"""Whether a device takes a pack: its rules, and those of its file system."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePath

from zembrel.deliver.devices.device import Device
from zembrel.measure import show_bytes

_CLUSTER = 32_768  # bytes that a file takes at least, on a card
_MOST_ENTRIES = 65_534  # of a folder of FAT32, whose long names take several
_PER_ENTRY = 13  # characters
_FORBIDDEN = re.compile(r'[\x00-\x1f"*/:<>?\\|]')
_RESERVED = {"CON", "PRN", "AUX", "NUL", *(f"{word}{n}" for word in ("COM", "LPT") for n in range(1, 10))}


@dataclass(frozen=True)
class PackTraits:
    """What a device asks of a pack; what is not known of its kind is empty."""

    kind: str
    zooms: tuple[int, int] | None = None
    cells: int | None = None
    formats: tuple[str, ...] = ()
    colours: int | None = None


def unfit_name(device: Device, out: Path) -> str | None:
    """Why a pack may not be called so, or None."""
    stem = out.stem
    if not re.fullmatch(device.names, stem):
        return f"names are like {device.names}, and {stem!r} is not"
    return _unfit_part(device, out.name)


def _unfit_part(device: Device, part: str) -> str | None:
    if device.file_system == "any":
        return None
    if len(part) > 255 or _FORBIDDEN.search(part) or part[-1:] in (".", " "):
        return f"{part!r} is no name on {device.file_system}"
    if part.partition(".")[0].upper() in _RESERVED:
        return f"{part!r} is a reserved name on {device.file_system}"
    return None


def unfit(device: Device, pack: PackTraits, files: dict[PurePath, int]) -> Iterator[str]:
    """Each rule that a pack breaks; files: their names as they would lie on the device, and their bytes."""
    if pack.kind not in device.kinds:
        yield f"it takes {', '.join(device.kinds)}, not {pack.kind}"
    most = device.most_of_a_file
    large = next((name for name, size in files.items() if most is not None and size > most), None)
    if large is not None:
        yield f"{large} has {show_bytes(files[large])}, and a file has {show_bytes(most or 0)} at most"
    yield from _unfit_tiles(device, pack)
    if device.colours is not None and pack.colours is not None and pack.colours > device.colours:
        yield f"a chart has {device.colours} colours at most, and this has {pack.colours}"
    odd = (_unfit_part(device, part) for name in files for part in name.parts)
    yield from list(dict.fromkeys(why for why in odd if why is not None))[:1]
    if device.file_system == "fat32":
        yield from _full_folders(files)


def over_total(device: Device, files: dict[PurePath, int]) -> str | None:
    """Return why all packs of a run are too much for the device, or None."""
    total = sum(files.values())
    if device.largest_total is None or total <= device.largest_total:
        return None
    return f"it takes {show_bytes(device.largest_total)} in all, and this is {show_bytes(total)}"


def _unfit_tiles(device: Device, pack: PackTraits) -> Iterator[str]:
    if device.zooms and pack.zooms:
        (low, high), (lowest, highest) = device.zooms, pack.zooms
        if not low <= lowest <= highest <= high:
            yield f"zooms are {low} to {high}, and these are {lowest} to {highest}"
    if device.tile_cells and pack.cells is not None and pack.cells not in device.tile_cells:
        sides = " or ".join(map(str, device.tile_cells))
        yield f"tiles have {sides} cells a side, and these have {pack.cells}"
    wrong = [name for name in pack.formats if device.tile_formats and name not in device.tile_formats]
    if wrong:
        yield f"tiles are {', '.join(device.tile_formats)}, and some of these are {', '.join(wrong)}"


def _full_folders(files: dict[PurePath, int]) -> Iterator[str]:
    counts: dict[PurePath, int] = {}
    for name in files:
        counts[name.parent] = counts.get(name.parent, 0) + 2 + len(name.name) // _PER_ENTRY
    full = next((folder for folder, count in counts.items() if count > _MOST_ENTRIES), None)
    if full is not None:
        yield f"a folder of fat32 has {_MOST_ENTRIES:,} entries at most, and {full} would have more"


def room_needed(device: Device, files: dict[PurePath, int]) -> int:
    """Bytes that files take on the device, in whole clusters."""
    cluster = _CLUSTER if device.file_system != "any" else 1
    return sum(-(-size // cluster) * cluster for size in files.values())
