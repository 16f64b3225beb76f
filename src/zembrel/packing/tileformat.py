"""The one format of a pack's tiles: as asked, or chosen by some of them, with what the others would take."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Annotated, NamedTuple

import numpy as np

from zembrel.deliver.packs.kinds import PackKind
from zembrel.deliver.quadtree import everywhere
from zembrel.deliver.tilepicture import MIXED, TilePicture
from zembrel.errors import UsageError
from zembrel.facts import Fact, fact
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.grid.tiling import TileRange
from zembrel.inputs.methods import MethodName
from zembrel.optiontext import OptionText
from zembrel.packing.packcells import PackCells
from zembrel.pictures.appearance import Stretch
from zembrel.pictures.brush import NO_BRUSH, Brush
from zembrel.raster.model import Cells, Raster
from zembrel.results.opacity import colour_named

AUTO = "auto"
_LOOKED_AT = ("png", "jpeg", "webp")
_ACROSS = 4  # tiles that are looked at each way


@dataclass(frozen=True)
class Packing:
    """How a pyramid is made: zooms `8-14`, tile matrix set, cells along a tile, format of tiles, colours."""

    zooms: Annotated[
        str | None, OptionText("Zoom levels, e.g. 8-14. Default: from the native cell size.", "LOW-HIGH")
    ] = None
    tiling: Annotated[str, OptionText("Tile matrix set, e.g. WorldCRS84Quad.", "NAME")] = "WebMercatorQuad"
    tile_cells: Annotated[int, OptionText("Cells along a tile: 256 or 512.", "N")] = 256
    tile_format: Annotated[
        str, OptionText("png, jpeg, webp, auto, or mixed (PNG if not opaque).", "FORMAT")
    ] = "auto"
    quality: Annotated[int, OptionText("Quality of JPEG and WebP, 1 to 100.", "N")] = 85
    rows: Annotated[str, OptionText("Count rows of folders and zips from top or bottom.", "SIDE")] = "top"
    method: MethodName = "auto"
    brush: Brush = NO_BRUSH
    stretch: Stretch = None
    title: Annotated[str | None, OptionText("Title of the pack.", "TEXT")] = None
    attribution: Annotated[str, OptionText("Attribution of the data.", "TEXT")] = ""
    heights: Annotated[str | None, OptionText("Write heights as 16-bit grey or 24-bit colours.", "WAY")] = (
        None
    )
    viewer: Annotated[str | None, OptionText("Also write a web page that shows the tiles.", "PAGE")] = None
    beside: Annotated[tuple[str, ...], OptionText("Add another pack to the page. Repeatable.", "FOLDER")] = ()
    resume: Annotated[bool, OptionText("Continue an interrupted run.")] = False

    @property
    def of_blocks(self) -> Packing:
        """What of it a block depends on."""
        return replace(self, title=None, attribution="", rows="top", viewer=None, beside=(), resume=False)


class TileSample(NamedTuple):
    """Bytes of some tiles in each format, of how many, and whether all of their cells are opaque."""

    sizes: dict[str, int]
    tiles: int
    opaque: bool


def check_mixed(tile_format: str, kind: PackKind) -> None:
    """Raises UsageError for tiles of two formats in a pack that has one."""
    if tile_format == MIXED and not kind.of_many:
        raise UsageError(
            f"--tile-format {MIXED} for {kind.title}",
            "it says one format for all of its tiles, and readers ask for that",
            "write a .gpkg, or leave --tile-format out",
        )


def picture_of(
    held: PackCells, tile_format: str, quality: int, flatten: str | None, pictures: TilePictures
) -> tuple[TilePicture, list[Fact]]:
    """How tiles become bytes, and what was chosen. Raises UsageError for a colour that is none.

    flatten: the colour that cells which are not opaque are laid on, if there is to be no opacity.
    """
    onto = None if flatten is None else colour_named(flatten, "--flatten")
    picture = replace(held.picture(quality, tile_format), onto=onto)
    if tile_format != AUTO:
        return picture, _white(picture, pictures, onto)
    if held.codes or held.heights is not None:
        return replace(picture, format="png"), []
    sample = pictures.sample(picture)
    few = sample.sizes["png"] <= sample.sizes["jpeg"]
    chosen = "png" if few or (not sample.opaque and onto is None) else "jpeg"
    if not sample.tiles:
        return replace(picture, format=chosen), []
    whole = {name: round(size / sample.tiles * pictures.number) for name, size in sample.sizes.items()}
    others = tuple((name, whole[name]) for name in _LOOKED_AT if name != chosen)
    why = "few colours" if few else "opaque" if chosen == "jpeg" else "some cells are void"
    said = fact("tile_format", format=chosen, why=why, bytes=whole[chosen], others=others)
    return replace(picture, format=chosen), [said]


def _white(picture: TilePicture, pictures: TilePictures, onto: tuple[int, int, int] | None) -> list[Fact]:
    """A word on void cells of JPEG, which holds no opacity."""
    if picture.format != "jpeg" or onto is not None or pictures.sample(replace(picture, format=AUTO)).opaque:
        return []
    return [fact("void_white")]


class TilePictures(NamedTuple):
    """The finest tiles of a pack.

    view: on their frame; data: the frame of what is seen; cells: along a side; number: tiles of all zooms at
    most; steps: zooms below the finest.
    """

    view: Raster
    data: Frame
    tiles: TileRange
    cells: int
    number: int
    steps: int

    def sample(self, picture: TilePicture) -> TileSample:
        """What tiles spread over the pack take in each format."""
        sizes, tiles, opaque = dict.fromkeys(_LOOKED_AT, 0), 0, self._filled
        for cells, valid in self._some():
            tiles += 1
            opaque = opaque and valid is None and (len(cells) != 4 or bool((cells[3] == 255).all()))
            for name in _LOOKED_AT:
                made = replace(picture, format=name).encode(cells, valid)
                sizes[name] += len(made[0]) if made else 0
        return TileSample(sizes, tiles, opaque)

    @property
    def _filled(self) -> bool:
        """Whether the tiles of all zooms end with the data, so that none is empty in part."""
        coarsest = self.tiles.coarser(self.steps)
        across = (coarsest.right - coarsest.left) << self.steps == self.tiles.right - self.tiles.left
        down = (coarsest.bottom - coarsest.top) << self.steps == self.tiles.bottom - self.tiles.top
        tiles, data = np.array(self.view.frame.bounds), np.array(self.data.bounds)
        return across and down and bool(np.abs(tiles - data).max() < min(self.view.frame.cell) / 2)

    def _some(self) -> Iterator[tuple[Cells, Cells | None]]:
        """Cells and validity of tiles that hold something."""
        frame = self.view.frame
        tops, lefts = (_spread(count, self.cells) for count in (frame.rows, frame.columns))
        for top in tops:
            for left in lefts:
                pane = Pane(top, left, top + self.cells, left + self.cells).meet(frame.pane)
                assert pane is not None
                block = self.view.cells(pane)
                valid = everywhere(block.valid)
                if valid is None or valid.any():
                    yield block.cells, None if valid is None or valid.all() else valid


def _spread(count: int, cells: int) -> list[int]:
    """Where some of the tiles along a side begin."""
    tiles = max(count // cells, 1)
    return sorted({int((n + 0.5) * tiles / _ACROSS) * cells for n in range(_ACROSS)})
