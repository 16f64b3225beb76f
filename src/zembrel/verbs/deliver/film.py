"""deliver film: dated images, or the bands of one raster, one after the other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, NamedTuple

import numpy as np

from zembrel.deliver.devices.rules import PackTraits
from zembrel.deliver.film.dates import Dated, date_in, timeline
from zembrel.deliver.film.filmwriting import ENDINGS, FASTEST, check_writer, picture_size, write_film
from zembrel.deliver.film.pictures import Picture, Still, faded
from zembrel.draw.ramps import check_ramp
from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.limits import each
from zembrel.engine.plan import check_room, free_at
from zembrel.errors import UsageError
from zembrel.facts import Fact, distinct, fact
from zembrel.grid.frame import Frame
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer, open_layers
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import Target, brought, decide, masked
from zembrel.measure import show_number
from zembrel.optiontext import OptionText
from zembrel.packing.packcells import as_colours, in_colours
from zembrel.packing.square import ROUNDING
from zembrel.passes.stretch import WHOLE, ends_of_all
from zembrel.pictures.appearance import Stretch
from zembrel.pictures.brush import NO_BRUSH, Brush
from zembrel.raster.model import Raster, is_photo
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.opacity import colours_of
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.endings import check_ending
from zembrel.results.receipt import Receipt, Result
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbtable.record import RASTERS

SMALLEST, SMALLEST_SIDE = 16, 2  # cells along the longer side, and along any
MISSING = ("hold", "skip")
_SAMPLES = 12  # pictures of which the palette of a GIF is made


@dataclass(frozen=True)
class Filming:
    """How a film is made: cells along the longer side, pictures a second, and how many at most.

    fade: blends between two pictures; missing: what becomes of dates that are not there, hold or skip.
    """

    size: Annotated[int, OptionText("Cells along the longer side.", "N")] = 1280
    rate: Annotated[float, OptionText("Images per second.", "N")] = 4.0
    most: Annotated[int | None, OptionText("Largest number of images, spread evenly.", "N")] = None
    fade: Annotated[int, OptionText("Number of blended images between two dates.", "N")] = 0
    missing: Annotated[
        str, OptionText("What to do for missing dates: hold the last image, or skip.", "RULE")
    ] = "hold"
    stamp: Annotated[bool, OptionText("Write the date on each image.", flag="--stamp/--no-stamp")] = True
    method: MethodName = "auto"
    brush: Brush = NO_BRUSH
    stretch: Stretch = None


class _Shot(NamedTuple):
    """An image of the film: its cells, what it is called, and its date if it has one."""

    layer: Layer
    name: str
    date: Dated | None


def film(inputs: Inputs, where: Where, output: Output, filming: Filming, carry: Carry = NOWHERE) -> Receipt:
    """Images in the order of their dates as an .mp4, .gif or .webp, of one size and with one stretch for all.

    Raises UsageError for words that mean nothing, or for an MP4 without the package it needs.
    """
    _check(output, filming)

    def make() -> DeliveredPack:
        return DeliveredPack(_packed(inputs, where, output, filming), PackTraits("film"))

    return carried(carry, output, "film", make)


def _check(output: Output, filming: Filming) -> None:
    check_ending(output.path, ENDINGS, "film")
    check_writer(output.path)
    if not SMALLEST <= filming.size <= 7680:
        raise UsageError(f"--size {filming.size}", "a film has 16 to 7680 cells a side", "write --size 1280")
    if not 0.1 <= filming.rate <= 60:
        raise UsageError(
            f"--rate {filming.rate:g}", "0.1 to 60 pictures a second are shown", "write --rate 4"
        )
    if filming.missing not in MISSING:
        raise UsageError(f"--missing {filming.missing}", "known are hold and skip", "write --missing hold")
    if not 0 <= filming.fade <= 60:
        raise UsageError(f"--fade {filming.fade}", "there are 0 to 60 blends", "write --fade 5")
    shown = filming.rate * (filming.fade + 1)
    if shown > FASTEST:
        what = f"--rate {filming.rate:g} with --fade {filming.fade}"
        why = f"these are {shown:g} pictures a second, and players show {FASTEST} at most"
        raise UsageError(what, why, f"write --rate {FASTEST // (filming.fade + 1) or 1} or less")
    if filming.most is not None and filming.most < 2:
        raise UsageError(f"--most {filming.most}", "a film has at least two pictures", "write --most 50")
    if filming.brush.ramp is not None:
        check_ramp(filming.brush.ramp)


def _packed(inputs: Inputs, where: Where, output: Output, filming: Filming) -> Receipt:
    layers = open_layers(take(inputs, output, (RASTERS,)))
    shots, said = _thinned(_shots(layers), filming)
    wanted = where if where.onto or where.cell else replace(where, longest=filming.size)
    target = decide([shot.layer for shot in shots], wanted)
    if min(target.frame.pane.shape) < SMALLEST_SIDE:
        what = f"pictures of {target.frame.columns} x {target.frame.rows} cells"
        raise UsageError(what, "a film has two each way at least", "choose a finer --cell")
    slots = timeline([shot.date for shot in shots]) if all(s.date for s in shots) else list(range(len(shots)))  # type: ignore[misc]
    slots = [slot for slot in slots if slot is not None] if filming.missing == "skip" else slots
    missing = sum(slot is None for slot in slots)
    count = len(slots) + filming.fade * (len(slots) - 1)
    size = count * target.frame.size * 3
    fitting = int(filming.size * (output.ceiling_bytes / size) ** 0.5 / ROUNDING)
    fits = f"--size {fitting}" if fitting >= SMALLEST and not (where.onto or where.cell) else ""
    check_room(output.path, size, output.ceiling_bytes, output.command, f"{count:,} pictures", fits)
    paths = tuple(layer.path for layer in layers)
    dated = [shot.date for shot in shots if shot.date is not None]
    span = (
        [fact("dates", first=str(min(dated)), last=str(max(dated)))]
        if len(dated) == len(shots)
        else [fact("no_dates")]
    )
    held = [fact("dates_held", dates=missing)] if missing else []
    receipt = Receipt(
        "deliver film", paths, output.out, planned=output.dry_run, touched=paths, frame=target.frame,
        chose=distinct((*target.chose, *span, *said, *held)),
    )  # fmt: skip
    if output.dry_run:
        room = free_at(output.path)
        planned = Result(output.path, bytes_at_most=size, count=count, what="pictures", free=room)
        return replace(receipt, results=(planned,))
    stills, more = _stills(shots, target, where, output, filming)
    made = _written(stills, slots, output, filming)
    return replace(receipt, chose=distinct((*receipt.chose, *more)), results=(made,), seconds=output.seconds)


def _shots(layers: Sequence[Layer]) -> list[_Shot]:
    """Each file, or each band of one raster whose bands are no colours."""
    if len(layers) > 1:
        return [_Shot(layer, layer.path.stem, date_in(layer.path.stem)) for layer in layers]
    (layer,) = layers
    bands = layer.raster.bands
    if len(bands) < 2 or is_photo(bands):
        raise UsageError(
            f"{layer.path} is one image", "a film has several", "name more, or a raster of several bands"
        )
    return [
        _Shot(replace(layer, raster=select_bands(layer.raster, (n,))), band.name, date_in(band.name))
        for n, band in enumerate(bands)
    ]


def _thinned(shots: list[_Shot], filming: Filming) -> tuple[list[_Shot], list[Fact]]:
    """At most so many, spread evenly, the first and the last among them."""
    if all(shot.date for shot in shots):
        shots = sorted(shots, key=lambda shot: shot.date)  # type: ignore[arg-type,return-value]
    if filming.most is None or len(shots) <= filming.most:
        return shots, []
    kept = np.linspace(0, len(shots) - 1, filming.most).round().astype(int).tolist()
    return [shots[n] for n in kept], [fact("pictures_left_out", pictures=len(shots) - len(kept))]


def _stills(
    shots: Sequence[_Shot], target: Target, where: Where, output: Output, filming: Filming
) -> tuple[list[Still], list[Fact]]:
    """Each image in colours, by one range of values for all, and what was chosen for that."""
    views, said = [], list[Fact]()
    for shot in shots:
        view, more = brought(shot.layer, target, filming.method)
        views.append(masked(view, target.cover() if where.mask else None))
        said += more
    brush, stretch = _shared_range([shot.layer.raster for shot in shots], output, filming)
    stills = []
    for shot, view in zip(shots, views, strict=True):
        held = in_colours(as_colours(view, brush, stretch, shot.layer.raster, output.limits))
        said += held.chose
        shown = held.view
        stamp = str(shot.date) if shot.date is not None else shot.name
        stills.append(Still(shown, stamp if filming.stamp else ""))
    return stills, said


def _shared_range(rasters: Sequence[Raster], output: Output, filming: Filming) -> tuple[Brush, str | None]:
    """The ends of values for all images, where colours are made of them."""
    brush, stretch = filming.brush, filming.stretch
    values = (
        len(colours_of(rasters[0]).bands) == 1 and rasters[0].bands[0].legend is None and brush.legend is None
    )
    asked = brush.limits if stretch is None else stretch
    ramped = values and (brush != NO_BRUSH or rasters[0].bands[0].type != "uint8") and stretch is None
    if not ramped and stretch is None:
        return brush, None
    plain = [unscaled(colours_of(raster)) for raster in rasters]
    low, high = ends_of_all(plain, asked or WHOLE, output.limits)
    if stretch is not None:
        return brush, f"{low!r},{high!r}"
    return replace(brush, limits=f"{low!r},{high!r}"), None


@dataclass(frozen=True, eq=False)
class _Taken:
    """The picture of a number."""

    stills: Sequence[Still]

    def __call__(self, number: int) -> Picture:
        return self.stills[number]()


def _pictures(stills: Sequence[Still], slots: Sequence[int | None], output: Output) -> Iterator[Picture]:
    """A picture for each slot: the one before where its own is missing."""
    order = [slot for slot in slots if slot is not None]
    cells = stills[0].view.frame.size
    done = each(order, _Taken(stills), output.limits, size=lambda _: cells, item_bytes=3 * cells)
    last: Any = None
    for slot in slots:
        last = last if slot is None else next(done)
        yield last


def _written(
    stills: Sequence[Still], slots: Sequence[int | None], output: Output, filming: Filming
) -> Result:
    """The film in its place."""
    rate = filming.rate * (filming.fade + 1)
    with Staging(output.replace) as staging:
        staged = staging.path_for(output.path)
        with resource_errors(output.path):
            some = sorted({int(n) for n in np.linspace(0, len(stills) - 1, min(len(stills), _SAMPLES))})
            samples = [stills[n]() for n in some] if output.path.suffix.lower() == ".gif" else []
            pictures = faded(_pictures(stills, slots, output), filming.fade)
            count = write_film(staged, pictures, rate, samples)
        size = size_on_disk(staged)
        staging.publish()
    frame: Frame = stills[0].view.frame
    columns, rows = picture_size(output.path, frame.columns, frame.rows)
    how = (f"{columns} x {rows}", f"{show_number(round(count / rate, 2))} s")
    return Result(output.path, size, count=count, what="pictures", how=how, seconds=output.seconds)
