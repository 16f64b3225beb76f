"""deliver heightmap: 16-bit terrain and overlays of one square, for simulation engines."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, NamedTuple

import numpy as np

from zembrel.deliver.devices.rules import PackTraits
from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.plan import check_room, free_at
from zembrel.engine.run import run
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.formats.plainraw import make_sink
from zembrel.formats.pngstrips import png_sink
from zembrel.grid.framefile import crs_text
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import take
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import open_layers
from zembrel.inputs.lengths import in_metres
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.optiontext import OptionText
from zembrel.packing.heightrange import HeightRange, StoredHeights, range_of, read_back
from zembrel.packing.heights import joined_heights
from zembrel.packing.packcells import as_colours, in_colours
from zembrel.packing.square import Square, square_of
from zembrel.pictures.brush import Brush
from zembrel.raster.model import Band, Raster, is_photo, shared_type
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.cast import cast
from zembrel.raster.views.opacity import colours_of
from zembrel.raster.views.turned import turned
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.receipt import Receipt, Result
from zembrel.tomlfile import write_toml
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbtable.record import RASTERS

TERRAIN, ABOUT = "terrain.r16", "terrain.toml"
_STRETCH = "2%,98%"  # of overlays of more than 8 bits
_SIDES = ("top", "right", "bottom", "left")
_BLANK = (128, 128, 128)  # of overlays where there is nothing


@dataclass(frozen=True)
class Shaping:
    """How a terrain is made.

    overlay: rasters, each of which becomes a picture of the same square; size: nodes a side, 2^n + 1; span:
    the heights of 0 and 65535, `LO,HI`; turn: clockwise, in degrees; north: whether the first row of the
    terrain is its top or its bottom then; void: sea, lowest or a height; sea: its height.
    """

    overlay: Annotated[
        tuple[str, ...],
        OptionText("Also write this raster as a PNG image of the same square. Repeatable.", "RASTER"),
    ] = ()
    size: Annotated[int, OptionText("Heights along a side: 2^n + 1.", "N")] = 1025
    overlay_size: Annotated[int, OptionText("Cells along a side of overlays.", "N")] = 8192
    span: Annotated[
        str | None,
        OptionText(
            "Heights that become 0 and 65535. Default: the range of the data.", "LO,HI", flag="--range"
        ),
    ] = None
    order: Annotated[str, OptionText("Byte order of heights: little or big.", "ORDER")] = "little"
    north: Annotated[str, OptionText("Whether the first row is the top or the bottom.", "SIDE")] = "top"
    turn: Annotated[
        int, OptionText("Rotate clockwise by 0, 90, 180 or 270 degrees, overlays too.", "DEGREES")
    ] = 0
    void: Annotated[str, OptionText("Fill nodata with sea, lowest or a height.", "RULE")] = "sea"
    sea: Annotated[float, OptionText("Height of the sea in metres.", "HEIGHT")] = 0.0
    method: MethodName = "auto"


class _Picture(NamedTuple):
    """An overlay: the name of its file, and its cells."""

    name: str
    view: Raster
    sources: tuple[Path, ...]


def heightmap(
    inputs: Inputs, where: Where, output: Output, shaping: Shaping, carry: Carry = NOWHERE
) -> Receipt:
    """Heights, seen as one, as a raw square of 16 bits, with overlays and a TOML file that says what it is.

    Raises UsageError for words that mean nothing, InputError for what is no elevation.
    """
    _check(shaping, where)
    _check_places(output, shaping)
    files = tuple(output.path / name for name in _names(shaping))

    def make() -> DeliveredPack:
        return DeliveredPack(_packed(inputs, where, output, shaping), PackTraits("heightmap"), files)

    return carried(carry, output, "heightmap", make)


def _packed(inputs: Inputs, where: Where, output: Output, shaping: Shaping) -> Receipt:
    layers = open_layers(take(inputs, output, (RASTERS,)))
    square, chose = square_of(layers, where)
    view, said = joined_heights(layers, square.nodes(shaping.size), shaping.method, output.limits)
    if len(view.bands) != 1 or view.bands[0].legend is not None:
        raise InputError("a terrain is one band of heights", "colours and classes are none", "use --overlay")
    view = turned(in_metres(unscaled(view)), shaping.turn // 90)
    pictures = [_picture(name, square, where, output, shaping) for name in shaping.overlay]
    size = 2 * shaping.size**2 + 3 * len(pictures) * shaping.overlay_size**2
    pixels = f"{shaping.size:,} x {shaping.size:,} heights and {len(pictures)} overlays"
    check_room(output.path, size, output.ceiling_bytes, output.command, pixels, _fitting(output, shaping))
    paths = (*(layer.path for layer in layers), *(path for made in pictures for path in made.sources))
    receipt = Receipt(
        "deliver heightmap", paths, output.out, planned=output.dry_run, touched=paths,
        frame=square.nodes(shaping.size).frame, chose=distinct((*chose, *said)),
    )  # fmt: skip
    if output.dry_run:
        count = 2 + len(pictures)
        planned = Result(
            output.path, bytes_at_most=size, count=count, what="files", free=free_at(output.path)
        )
        return replace(receipt, results=(planned,))
    heights = range_of(view, shaping.span, shaping.void, shaping.sea, output.limits)
    made, found = _written(view, heights, square, pictures, output, shaping)
    sea = fact("voids_filled", cells=heights.voids, height=heights.void) if heights.voids else None
    ends = fact("heights_of_numbers", low=heights.low, high=heights.high, step=heights.step)
    north = fact("north_at", side=_SIDES[shaping.turn // 90], row=shaping.north)
    chosen = (*receipt.chose, ends, north, *([sea] if sea else []))
    return replace(receipt, chose=chosen, checks=found, results=(made,), seconds=output.seconds)


def _check(shaping: Shaping, where: Where) -> None:
    """Raises UsageError for words that mean nothing."""
    if where.onto or where.cell or where.longest:
        raise UsageError(
            "a terrain has a frame of its own", "its square and size say it", "use --within and --size"
        )
    steps = shaping.size - 1
    if steps < 2 or steps & (steps - 1):
        near = (1 << max(1, min(13, round(np.log2(max(steps, 2)))))) + 1
        raise UsageError(
            f"--size {shaping.size}", "engines take 2^n + 1 heights a side", f"write --size {near}"
        )
    if not 16 <= shaping.overlay_size <= 32_768:
        raise UsageError(
            f"--overlay-size {shaping.overlay_size}", "it has 16 to 32768", "write --overlay-size 8192"
        )
    if not _is_height(shaping.void):
        raise UsageError(f"--void {shaping.void}", "it is sea, lowest or a height", "write --void lowest")
    if not math.isfinite(shaping.sea):
        raise UsageError(f"--sea {shaping.sea}", "it is a height in metres", "write --sea 0")
    for option, value, known in (
        ("--order", shaping.order, ("little", "big")), ("--north", shaping.north, ("top", "bottom")),
        ("--turn", str(shaping.turn), ("0", "90", "180", "270")),
    ):  # fmt: skip
        if value not in known:
            raise UsageError(f"{option} {value}", f"known are {', '.join(known)}", nearest_name(value, known))


def _fitting(output: Output, shaping: Shaping) -> str:
    """The option with which overlays would pass the ceiling, if any would."""
    left = output.ceiling_bytes - 2 * shaping.size**2
    sides = [1 << n for n in range(4, 15) if 3 * len(shaping.overlay) * 4**n <= left]
    return f"--overlay-size {sides[-1]}" if shaping.overlay and sides else ""


def _is_height(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return text in ("sea", "lowest")


def _names(shaping: Shaping) -> list[str]:
    """The files of a terrain."""
    return [TERRAIN, ABOUT, *(f"{Path(name).stem}.png" for name in shaping.overlay)]


def _check_places(output: Output, shaping: Shaping) -> None:
    """Raises UsageError for overlays of one name, RefusedError for what stands there."""
    names = _names(shaping)
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise UsageError(f"two files would be {twice}", "overlays are named after their inputs", "rename one")
    if not output.dry_run:
        for name in names:
            check_free(output.path / name, output.replace)


def _picture(name: str, square: Square, where: Where, output: Output, shaping: Shaping) -> _Picture:
    """An overlay as opaque red, green and blue."""
    layers = open_layers(take(Inputs((name,)), replace(output, out=None), (RASTERS,)))
    view, _ = joined(layers, square.cells(shaping.overlay_size), "auto")
    ends = _STRETCH if is_photo(view.bands) and shared_type(view.bands) != "uint8" else None
    shown = colours_of(in_colours(as_colours(view, Brush(), ends, view, output.limits)).view)
    shown = select_bands(shown, (0, 0, 0)) if len(shown.bands) == 1 else shown
    sources = tuple(layer.path for layer in layers)
    return _Picture(f"{Path(name).stem}.png", turned(shown, shaping.turn // 90), sources)


def _written(
    view: Raster,
    heights: HeightRange,
    square: Square,
    pictures: Sequence[_Picture],
    output: Output,
    shaping: Shaping,
) -> tuple[Result, tuple[Fact, ...]]:
    """All files in their places, together, and what reading the terrain back shows."""
    folder, size = output.path, 0
    with Staging(output.replace) as staging:
        places = {name: staging.path_for(folder / name) for name in (TERRAIN, *(p.name for p in pictures))}
        with resource_errors(folder):
            bands = (Band("height", "uint16", heights.number(heights.void)),)
            settings = {"byteorder": shaping.order, "first": "north" if shaping.north == "top" else "south"}
            coded = cast(view, "uint16", 1 / heights.step, -heights.low / heights.step)
            run(coded, make_sink(places[TERRAIN], view.frame, bands, settings), output.limits)
            for picture in pictures:
                made = picture.view
                run(made, png_sink(places[picture.name], made.frame, made.bands, _BLANK), output.limits)
        stored = StoredHeights(places[TERRAIN], shaping.order == "big", shaping.north == "bottom", heights)
        found = read_back(view, stored, output.limits)
        staging.write_text(folder / ABOUT, write_toml(_about(square, heights, pictures, shaping)))
        size = sum(size_on_disk(place) for place in places.values())
        staging.publish()
    result = Result(folder, size, count=2 + len(pictures), what="files", seconds=output.seconds)
    return result, found


def _about(
    square: Square, heights: HeightRange, pictures: Sequence[_Picture], shaping: Shaping
) -> dict[str, Any]:
    """What an engine, or whoever feeds it, has to know."""
    side, relief, count = round(square.metres, 6), heights.high - heights.low, shaping.size
    sentence = (
        f"16 bits, {shaping.order}-endian, {count} x {count}, first row is the {shaping.north}; "
        f"terrain {side:.10g} x {side:.10g} m, height {relief:.10g} m, lowest {heights.low:.10g} m"
    )
    return {
        "terrain": TERRAIN, "columns": count, "rows": count, "type": "uint16", "order": shaping.order,
        "first_row": shaping.north, "north_is_at": _SIDES[shaping.turn // 90],
        "east_west_m": side, "north_south_m": side, "relief_m": relief, "lowest_m": heights.low,
        "highest_m": heights.high, "sea_level_m": shaping.sea,
        "sea_level_number": heights.number(shaping.sea),
        "overlays": [picture.name for picture in pictures], "overlay_cells": shaping.overlay_size,
        "crs": crs_text(square.crs) if square.crs else "",
        "west": square.west, "south": square.north - square.side,
        "east": square.west + square.side, "north": square.north, "say": sentence,
    }  # fmt: skip
