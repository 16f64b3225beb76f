"""The kinds of tile packs: a record for each, with how it is made and read."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import NamedTuple, Protocol

from zembrel.damaged import DAMAGED
from zembrel.deliver.packs import tilereading
from zembrel.deliver.packs.folder import FolderPack, TileNames, ZipPack
from zembrel.deliver.packs.geopackage import GeoPackagePack
from zembrel.deliver.packs.mbtiles import MBTilesPack
from zembrel.deliver.packs.packfacts import PackFacts
from zembrel.deliver.packs.pmtiles import PMTilesPack
from zembrel.deliver.packs.tilereading import TileFound
from zembrel.deliver.quadtree import EncodedTile
from zembrel.errors import ResourceError, UsageError
from zembrel.grid.tiling import Tiling


class PackStore(Protocol):
    """A pack in the making: tiles in any order of zooms, then what it says of itself."""

    def put(self, tile: EncodedTile) -> None: ...
    def finish(self, facts: PackFacts) -> None: ...
    def abort(self) -> None: ...


class PackKind(NamedTuple):
    """A kind of tile pack: its title, its ending, its writer and its reader.

    glance: reads each distinct image once; web_alone: True if it supports WebMercatorQuad only; rows_asked:
    True if --rows applies; from_bottom: True if the standard counts rows from the bottom; of_many: True if a
    pack may mix image formats.
    """

    title: str
    ending: str
    make: Callable[[Path, Tiling, TileNames], PackStore]
    read: Callable[[Path], Iterator[TileFound]]
    glance: Callable[[Path], Iterator[TileFound]]
    web_alone: bool = False
    rows_asked: bool = False
    from_bottom: bool = False
    of_many: bool = False


KINDS = {
    "folder": PackKind(
        "a folder of tiles", "/", lambda path, _, names: FolderPack(path, names), tilereading.of_folder,
        tilereading.of_folder, rows_asked=True,
    ),
    "zip": PackKind(
        "a zip of tiles", ".zip", lambda path, _, names: ZipPack(path, names), tilereading.of_zip,
        tilereading.of_zip, rows_asked=True,
    ),
    "mbtiles": PackKind(
        "MBTiles 1.3", ".mbtiles", lambda path, tiling, _: MBTilesPack(path, tiling.rows),
        tilereading.of_mbtiles, tilereading.of_mbtiles, web_alone=True, from_bottom=True,
    ),
    "gpkg": PackKind(
        "GeoPackage tiles", ".gpkg", lambda path, tiling, _: GeoPackagePack(path, tiling),
        tilereading.of_geopackage, tilereading.of_geopackage, of_many=True,
    ),
    "pmtiles": PackKind(
        "PMTiles 3", ".pmtiles", lambda path, *_: PMTilesPack(path), tilereading.of_pmtiles,
        tilereading.different_of_pmtiles, web_alone=True,
    ),
}  # fmt: skip


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
    return KINDS[kind].make(path, tiling, TileNames(tiling.rows, from_bottom))


def check_pack(
    kind: str, path: Path, facts: PackFacts, zooms: Mapping[int, int], *, from_bottom: bool
) -> int:
    """How many tiles a reader finds, all where they should be and of the right size.

    Raises ResourceError for a pack that is not what was written.
    """
    rows = facts.tiling.rows if from_bottom or KINDS[kind].from_bottom else 0
    try:
        return tilereading.checked(KINDS[kind].read(path), rows, facts.cells, zooms, path)
    except DAMAGED as exc:
        raise ResourceError(f"{path} does not hold what was written", str(exc), "report it") from exc
