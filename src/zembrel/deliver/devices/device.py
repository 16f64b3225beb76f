"""Devices: what each takes, and by which rules."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.measure import parse_bytes
from zembrel.tomlfile import Keys, check_keys, read_toml

ENDING = ".device.toml"
KINDS = ("tiles", "zip", "mbtiles", "gpkg", "pmtiles", "globe", "chart", "heightmap", "hgt", "chips", "film")
FILE_SYSTEMS = ("any", "fat32", "exfat")
_PLAIN = {"title": str, "folder": str, "names": str, "file_system": str, "colours": int}
_LISTS = {"kinds": list, "zooms": list, "tile_cells": list, "tile_formats": list}
_KEYS: Keys = {**_PLAIN, **_LISTS, "largest_file": str, "largest_total": str}
_FAT32_FILE = 2**32 - 1


@dataclass(frozen=True)
class Device:
    """What a device takes.

    kinds: of packs; folder: where they go, on it; names: a pattern of the names of packs, without ending;
    zooms: lowest and highest; colours: of a chart, at most.
    """

    name: str
    title: str
    kinds: tuple[str, ...]
    folder: str = ""
    largest_file: int | None = None
    largest_total: int | None = None
    names: str = ".*"
    file_system: str = "any"
    zooms: tuple[int, int] | None = None
    tile_cells: tuple[int, ...] = ()
    tile_formats: tuple[str, ...] = ()
    colours: int | None = None

    @property
    def most_of_a_file(self) -> int | None:
        """Bytes of a file at most: of the device, and of its file system."""
        ends = [self.largest_file, _FAT32_FILE if self.file_system == "fat32" else None]
        return min((end for end in ends if end is not None), default=None)


def device_called(name: str) -> Device:
    """One that is shipped, by its name, or that a file describes. Raises UsageError, InputError."""
    path = Path(name) if name.endswith(ENDING) else _shipped().get(name)
    if path is None:
        known = list(_shipped())
        what, why = f"there is no device {name!r}", f"known are {', '.join(known)}, and *{ENDING} files"
        raise UsageError(what, why, nearest_name(name, known))
    return _read(path)


def _shipped() -> dict[str, Path]:
    return {path.name.removesuffix(ENDING): path for path in sorted(Path(__file__).parent.glob(f"*{ENDING}"))}


def _read(path: Path) -> Device:
    table = read_toml(path, "device file")
    check_keys(path, table, _KEYS, ("title", "kinds"))
    for kind in table["kinds"]:
        if kind not in KINDS:
            raise _wrong(path, f"kinds has {kind!r}", nearest_name(str(kind), KINDS))
    system = table.get("file_system", "any")
    if system not in FILE_SYSTEMS:
        raise _wrong(path, f"file_system = {system!r}", nearest_name(system, FILE_SYSTEMS))
    try:
        re.compile(table.get("names", ""))
        sizes = {key: parse_bytes(table[key]) for key in ("largest_file", "largest_total") if key in table}
    except (re.error, UsageError) as exc:
        raise _wrong(path, str(exc), 'write names = "[a-z0-9_]{1,20}", largest_file = "4GB"') from exc
    folder = Path(table.get("folder", ""))
    if folder.is_absolute() or ".." in folder.parts:
        raise _wrong(path, f"folder = {str(folder)!r}", "name a folder on the device")
    plain = {key: table[key] for key in _PLAIN if key in table}
    lists = {key: tuple(table[key]) for key in _LISTS if key in table}
    zooms = lists.get("zooms", (0, 0))
    if len(zooms) != 2 or not all(isinstance(zoom, int) for zoom in zooms):
        raise _wrong(path, f"zooms = {table['zooms']}", "write zooms = [0, 20]")
    return Device(path.name.removesuffix(ENDING), **(plain | lists | sizes))


def _wrong(path: Path, why: str, remedy: str) -> InputError:
    return InputError(f"{path} describes no device", why, remedy)
