"""Tiles as files of a folder, or of a zip: zoom/column/row."""

from __future__ import annotations

import zipfile
from pathlib import Path

from zembrel.clock import archive_time
from zembrel.deliver.packs.packfacts import ENDINGS, PackFacts
from zembrel.deliver.quadtree import EncodedTile
from zembrel.formats.tilefolder import TILE_INDEX


class TileNames:
    """The name of each tile; from_bottom: whether rows count from the bottom."""

    def __init__(self, rows: int, from_bottom: bool) -> None:
        self._rows, self._from_bottom = rows, from_bottom

    def of(self, tile: EncodedTile) -> str:
        zoom, column, row = tile.address
        row = (self._rows << zoom) - 1 - row if self._from_bottom else row
        return f"{zoom}/{column}/{row}.{ENDINGS[tile.format]}"

    @property
    def scheme(self) -> str:
        return "tms" if self._from_bottom else "xyz"


class FolderPack:
    """Tiles as files under a folder that is new."""

    def __init__(self, path: Path, names: TileNames) -> None:
        self._path, self._names = path, names
        self._made: set[str] = set()
        path.mkdir(parents=True, exist_ok=True)

    def put(self, tile: EncodedTile) -> None:
        name = self._names.of(tile)
        parent = name.rpartition("/")[0]
        if parent not in self._made:
            (self._path / parent).mkdir(parents=True, exist_ok=True)
            self._made.add(parent)
        (self._path / name).write_bytes(tile.data)

    def finish(self, facts: PackFacts) -> None:
        address = f"{{z}}/{{x}}/{{y}}.{ENDINGS[facts.format]}"
        (self._path / TILE_INDEX).write_text(facts.text(address, self._names.scheme), "utf-8")

    def abort(self) -> None: ...


class ZipPack:
    """The same in a zip, whose tiles are stored as they are."""

    def __init__(self, path: Path, names: TileNames) -> None:
        self._names, self._time = names, archive_time()
        self._file = zipfile.ZipFile(path, "w", zipfile.ZIP_STORED, allowZip64=True)

    def _add(self, name: str, data: bytes) -> None:
        entry = zipfile.ZipInfo(name, self._time)
        entry.external_attr = 0o644 << 16
        self._file.writestr(entry, data)

    def put(self, tile: EncodedTile) -> None:
        self._add(self._names.of(tile), tile.data)

    def finish(self, facts: PackFacts) -> None:
        address = f"{{z}}/{{x}}/{{y}}.{ENDINGS[facts.format]}"
        self._add(TILE_INDEX, facts.text(address, self._names.scheme).encode())
        self._file.close()

    def abort(self) -> None:
        self._file.close()
