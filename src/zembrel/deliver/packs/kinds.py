"""The kinds of tile packs: their names, stores and readers."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple, Protocol

from zembrel.damaged import DAMAGED
from zembrel.deliver.packs import reading
from zembrel.deliver.packs.facts import PackFacts
from zembrel.deliver.packs.folder import FolderPack, TileNames, ZipPack
from zembrel.deliver.packs.geopackage import GeoPackagePack
from zembrel.deliver.packs.mbtiles import MBTilesPack
from zembrel.deliver.packs.pmtiles import PMTilesPack
from zembrel.deliver.quadtree import EncodedTile
from zembrel.errors import ResourceError, UsageError
from zembrel.grid.tiling import Tiling


class PackStore(Protocol):
    """A pack in the making: tiles in any order of zooms, then what it says of itself."""

    def put(self, tile: EncodedTile) -> None: ...
    def finish(self, facts: PackFacts) -> None: ...
    def abort(self) -> None: ...


class PackKind(NamedTuple):
    """What a kind is called, its ending, and whether it knows the web's tiling alone."""

    title: str
    ending: str
    web_alone: bool = False


KINDS = {
    "folder": PackKind("a folder of tiles", "/"),
    "zip": PackKind("a zip of tiles", ".zip"),
    "mbtiles": PackKind("MBTiles 1.3", ".mbtiles", True),
    "gpkg": PackKind("GeoPackage tiles", ".gpkg"),
    "pmtiles": PackKind("PMTiles 3", ".pmtiles", True),
}


def pack_kind(out: Path, to_folder: bool) -> str:
    """The kind that a name says. Raises UsageError."""
    if to_folder or not out.suffix:
        return "folder"
    found = next((name for name, kind in KINDS.items() if kind.ending == out.suffix.lower()), None)
    if found is None:
        endings = ", ".join(kind.ending for kind in KINDS.values())
        raise UsageError(
            f"{out.name} is no name of a tile pack", f"its ending is {out.suffix!r}", f"end it in {endings}"
        )
    return found


def pack_at(kind: str, path: Path, tiling: Tiling, *, from_bottom: bool) -> PackStore:
    """A new pack at `path`."""
    names = TileNames(tiling.rows, from_bottom)
    if kind == "folder":
        return FolderPack(path, names)
    if kind == "zip":
        return ZipPack(path, names)
    if kind == "mbtiles":
        return MBTilesPack(path, tiling.rows)
    return GeoPackagePack(path, tiling) if kind == "gpkg" else PMTilesPack(path)


def check_pack(
    kind: str, path: Path, facts: PackFacts, zooms: Mapping[int, int], *, from_bottom: bool
) -> int:
    """How many tiles a reader finds, all where they should be and of the right size.

    Raises ResourceError for a pack that is not what was written.
    """
    read = {
        "folder": reading.of_folder, "zip": reading.of_zip, "mbtiles": reading.of_mbtiles,
        "gpkg": reading.of_geopackage, "pmtiles": reading.of_pmtiles,
    }[kind]  # fmt: skip
    rows = facts.tiling.rows if from_bottom or kind == "mbtiles" else 0
    try:
        return reading.checked(read(path), rows, facts.cells, zooms, path)
    except DAMAGED as exc:
        raise ResourceError(f"{path} does not hold what was written", str(exc), "report it") from exc
