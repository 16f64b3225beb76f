"""The archive of a globe: pictures as they come, then `doc.kml`, then what it links to."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

from zembrel.clock import archive_time
from zembrel.deliver.globe import markup
from zembrel.deliver.globe.markup import Shown
from zembrel.deliver.globe.tree import PieceTree
from zembrel.deliver.packs.packfacts import ENDINGS
from zembrel.deliver.quadtree import EncodedTile
from zembrel.grid.tiling import TileAddress
from zembrel.provenance import KEY, document

ROOT = "doc.kml"


class GlobeArchive:
    """A KMZ in the making. Its first document has to be the one that is opened, so that the others wait."""

    def __init__(self, path: Path) -> None:
        self._file = zipfile.ZipFile(path, "w", allowZip64=True)
        told = document()
        self._later = [(f"{KEY}.json", told)] if told is not None else []

    def picture(self, name: str, data: bytes) -> None:
        self._add(name, data, zipfile.ZIP_STORED)

    def document(self, name: str, text: str) -> None:
        """A document that another one links to."""
        self._later.append((name, text))

    def finish(self, root: str) -> None:
        """Close it; root: the text of the document that is opened."""
        for name, text in [(ROOT, root), *self._later]:
            self._add(name, text.encode(), zipfile.ZIP_DEFLATED)
        self._file.close()

    def abort(self) -> None:
        self._file.close()

    def _add(self, name: str, data: bytes, way: int) -> None:
        entry = zipfile.ZipInfo(name, archive_time())
        entry.compress_type, entry.external_attr = way, 0o644 << 16
        self._file.writestr(entry, data)


class PictureLayer:
    """The pieces of one raster: each in a document of its own with links to the finer ones in it."""

    def __init__(self, archive: GlobeArchive, name: str, number: int, tree: PieceTree, shown: Shown) -> None:
        self._archive, self._name, self._folder = archive, name, f"p{number}"
        self._tree, self._shown = tree, shown
        self._there: dict[TileAddress, str] = {}

    def put(self, tile: EncodedTile) -> None:
        """A piece; those that lie in it have come before."""
        piece = tile.address
        name = f"{self._folder}/{piece.zoom}/{piece.column}-{piece.row}"
        self._archive.picture(f"{name}.{ENDINGS[tile.format]}", tile.data)
        self._there[piece] = ENDINGS[tile.format]
        if self._tree.levels > 1:
            self._archive.document(f"{name}.kml", self._document(piece))

    @property
    def count(self) -> int:
        return len(self._there)

    def folder(self) -> str:
        """What the root document says of the layer."""
        roots = sorted(piece for piece in self._there if piece.zoom == 0)
        if self._tree.levels == 1:
            where = [self._region(piece) if self._shown.pixels != (0.0, -1.0) else "" for piece in roots]
            parts = [
                self._overlay(piece, self._folder + "/0/", place)
                for piece, place in zip(roots, where, strict=True)
            ]
        else:
            parts = [
                markup.link(_named(piece), f"{self._folder}/0/{_named(piece)}.kml", self._region(piece))
                for piece in roots
            ]
        return markup.folder(self._name, *parts)

    def _document(self, piece: TileAddress) -> str:
        inner = [child for child in self._tree.children(piece) if child in self._there]
        links = [
            markup.link(_named(child), f"../{child.zoom}/{_named(child)}.kml", self._region(child))
            for child in inner
        ]
        return markup.document(
            f"{piece.zoom}/{_named(piece)}", self._overlay(piece, "", self._region(piece)), *links
        )

    def _overlay(self, piece: TileAddress, folder: str, where: str) -> str:
        image = f"{folder}{_named(piece)}.{self._there[piece]}"
        bounds = self._tree.bounds(piece)
        return markup.overlay(_named(piece), image, bounds, self._shown, piece.zoom, where)

    def _region(self, piece: TileAddress) -> str:
        """Where a piece is shown: by its own detail, and by what is asked of the whole layer."""
        low, high = self._tree.pixels(piece)
        if not self._shown.exclusive:
            high = -1
        share = self._tree.share(piece)
        least, most = (pixels * share for pixels in self._shown.pixels)
        ends = [end for end in (high, most) if end >= 0]
        return markup.region(self._tree.bounds(piece), max(low, least), min(ends) if ends else -1)


def _named(piece: TileAddress) -> str:
    return f"{piece.column}-{piece.row}"


def dot() -> bytes:
    """A white disc, which globes tint."""
    from PIL import Image, ImageDraw

    disc = Image.new("RGBA", (64, 64), (0, 0, 0, 0))
    ImageDraw.Draw(disc).ellipse((8, 8, 56, 56), fill=(255, 255, 255, 255), outline=(0, 0, 0, 255), width=4)
    held = io.BytesIO()
    disc.save(held, "PNG")
    return held.getvalue()
