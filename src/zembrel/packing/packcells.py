"""What tiles hold: colours, grey, codes of a palette, or heights."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from zembrel.deliver.tilepicture import MIXED, TilePicture
from zembrel.engine.limits import Limits
from zembrel.errors import InputError, RefusedError
from zembrel.facts import Fact, fact
from zembrel.passes.stretch import WHOLE, ends_of_all, stretched
from zembrel.pictures.brush import NO_BRUSH, Brush, painted_cells
from zembrel.raster.heightcode import HeightCode
from zembrel.raster.model import Raster, has_alpha, is_photo, shared_type
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.unscaled import unscaled

_WITH_OPACITY, _GREY_HEIGHT = 4, 2  # bytes of a cell at most


class PackCells(NamedTuple):
    """A view whose cells tiles hold, how heights are told if they are heights, and what was chosen for it."""

    view: Raster
    chose: list[Fact]
    heights: HeightCode | None = None

    @property
    def codes(self) -> bool:
        """Whether the cells are codes of a palette."""
        return self.heights is None and self.view.bands[0].legend is not None and len(self.view.bands) == 1

    @property
    def cell_bytes(self) -> int:
        """Bytes of a cell in any picture at most."""
        return _GREY_HEIGHT if self.heights is not None and self.heights.way == "grey" else _WITH_OPACITY

    def picture(self, quality: int, tile_format: str = MIXED) -> TilePicture:
        """How the cells become bytes."""
        legend = self.view.bands[0].legend if self.codes else None
        return TilePicture(tile_format, quality, legend, self.heights)


def as_heights(view: Raster, way: str, sources: Sequence[Raster], limits: Limits) -> PackCells:
    """Heights themselves. sources: what the view was made of, whose values tell its range."""
    band = view.bands[0]
    if len(view.bands) != 1 or band.legend is not None:
        why = "colours and classes are none"
        raise InputError("heights are one band of values", why, "leave --heights out")
    low, high = ends_of_all([unscaled(source) for source in sources], WHOLE, limits)
    code = HeightCode.over(way, low, high)
    said = fact("heights_in_tiles", way=code.way, base=code.base, step=code.step)
    return PackCells(unscaled(view), [said], code)


def as_colours(view: Raster, brush: Brush, ends: str | None, spread: Raster, limits: Limits) -> PackCells:
    """Colours: those of a photo, grey or palette as they are, `ends` stretched over all of the range, else by
    ramp or legend.

    spread: whose values span the ramp where nobody says it. Raises InputError for bands that are no colours,
    RefusedError for photos of more than 8 bits that are not stretched.
    """
    painted = brush != NO_BRUSH
    count = len(view.bands) - has_alpha(view.bands)
    if painted or (count == 1 and ends is None and not _is_grey(view)):
        return _painted(view, brush, spread, limits)
    view, said = _picked(view)
    if ends is not None:
        view, more = stretched(unscaled(view), ends, "uint8", limits)
        return PackCells(view, [*said, *more])
    if shared_type(view.bands) != "uint8":
        what = f"tiles hold colours of 8 bits, these are {shared_type(view.bands).name}"
        raise RefusedError(what, "how values become colours is a choice", "add --stretch 2%,98%")
    return PackCells(view, said)


def _is_grey(view: Raster) -> bool:
    return view.bands[0].type == "uint8"


def _picked(view: Raster) -> tuple[Raster, list[Fact]]:
    """Red, green and blue, or one band; with opacity where the view has it."""
    bands, alpha = view.bands, has_alpha(view.bands)
    count, last = len(bands) - alpha, (len(bands) - 1,) if alpha else ()
    if count == 1:
        return (view, []) if not alpha else (select_bands(view, (0, 0, 0, 1)), [])
    if count == 3:
        return view, []
    if not is_photo(bands):
        names = ", ".join(band.name for band in bands[:12])
        why = "tiles hold one band, or red, green and blue"
        raise InputError(
            f"{count} bands that are no colours: {names}", why, "choose one or three with --bands"
        )
    left = tuple(band.name for band in bands[3:count])
    return select_bands(view, (0, 1, 2, *last)), [fact("bands_left_out", bands=left)]


def _painted(view: Raster, brush: Brush, spread: Raster, limits: Limits) -> PackCells:
    if len(view.bands) - has_alpha(view.bands) != 1:
        what = f"a ramp or legend for {len(view.bands)} bands"
        raise InputError(what, "it colours one", "choose it with --bands")
    first = [unscaled(select_bands(raster, (0,))) for raster in (view, spread)]
    return PackCells(*painted_cells(first[0], brush, limits, ends_from=first[1]))


def in_colours(held: PackCells) -> PackCells:
    """Codes of a palette as colours, for formats that hold no palette."""
    return held._replace(view=expand_palette(held.view)) if held.codes else held
