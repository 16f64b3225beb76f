"""fetch: what an area needs of a source, on a frame."""

from __future__ import annotations

import datetime
import re
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

from zembrel.engine.commit import check_free
from zembrel.engine.plan import Plan, free_at
from zembrel.errors import UsageError
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.formats import choose_format
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import box_bounds, carried_bounds
from zembrel.inputs.alike import alike
from zembrel.inputs.collars import trimmed
from zembrel.inputs.layers import Layer
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.pieces import pieces_of, sewn
from zembrel.inputs.target import Target, decide, masked
from zembrel.inputs.within import asked_crs, asked_frame, resolve
from zembrel.measure import parse_cell
from zembrel.optiontext import OptionText
from zembrel.raster.model import pick_bands
from zembrel.raster.views.bands import select_bands
from zembrel.reading import readings
from zembrel.results.receipt import LOSSES, Receipt, Result
from zembrel.results.write import write
from zembrel.sources.opening import find_source, open_source
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wish import Dates, SourceLayers, Wish
from zembrel.verbs.fetchblocks import fetch_blocks
from zembrel.verbs.fetching import asked_for, at_level, bring, check_size, credit, errand, refuse_offline

COMPOSITES = {"latest": "first", "least-cloud": "first", "first": "first", "last": "last", "mean": "mean",
              "median": "median", "min": "min", "max": "max"}  # fmt: skip
_DAY = re.compile(r"(\d{4})(?:-(\d{2}))?(?:-(\d{2}))?")


@dataclass(frozen=True)
class Fetching:
    """What of a source is wanted.

    dates: `2024`, `2024-05` or `FIRST..LAST`; cloud: percent at most; composite: who wins where several
    images fall on a cell; zoom: of tiles; blocks_where: a condition on the entries of an index; yes: ask for
    any number of pieces; method: of resampling.
    """

    dates: Annotated[
        str | None, OptionText("Date or range: 2024, 2024-05, 2024-05-31 or FIRST..LAST.", "DATES")
    ] = None
    cloud: Annotated[float | None, OptionText("Largest cloud cover of an image, in per cent.", "PERCENT")] = (
        None
    )
    composite: Annotated[
        str,
        OptionText(
            "How to combine images: latest, least-cloud, median, mean, min, max, first or last.", "RULE"
        ),
    ] = "latest"
    zoom: Annotated[
        int | None, OptionText("Zoom level of tiles. Default: from --cell, else the finest.", "N")
    ] = None
    blocks_where: Annotated[
        str | None,
        OptionText(
            "Use only matching entries of a block index, e.g. \"year == 2009 and product == 'points'\".",
            "CONDITION",
        ),
    ] = None
    yes: Annotated[bool, OptionText("Request any number of pieces without a warning.")] = False
    method: MethodName = "auto"


def fetch(inputs: Inputs, where: Where, output: Output, fetching: Fetching) -> Receipt:
    """Bring what an area needs of a source, on a frame.

    Raises UsageError where no area is said, RemoteError where the server does not play along.
    """
    if len(inputs.inputs) != 1:
        what = f"{len(inputs.inputs)} sources"
        raise UsageError(
            what, "one at a time is fetched", "write zembrel fetch NAME --within AREA --out PATH"
        )
    readings.stay_offline(inputs.offline)
    source = find_source(inputs.inputs[0])
    if fetching.composite not in COMPOSITES:
        why = f"known are {', '.join(COMPOSITES)}"
        raise UsageError(f"--composite {fetching.composite}", why, "leave it out for the latest")
    if source.kind != "blocks":
        if fetching.blocks_where:
            why = f"{source.name} is a source of kind {source.kind}"
            raise UsageError("--blocks-where picks entries of an index of blocks", why, "leave it out")
        choose_format(output.path, output.format)
    if output.writes:
        check_free(output.path, output.replace)
    wish = _wish(inputs, where, fetching)
    if source.kind == "blocks":
        return fetch_blocks(source, wish, inputs, where, output)
    return _of_rasters(source, wish, inputs, where, output, fetching)


def _of_rasters(
    source: SourceFile, wish: Wish, inputs: Inputs, where: Where, output: Output, fetching: Fetching
) -> Receipt:
    began = time.time()
    found = open_source(source, wish, offline=inputs.offline)
    layers = _layers(_in_order(found, fetching.composite), inputs)
    target = decide(layers, where)
    Plan(target.frame, layers[0].raster.bands, output.path).check(output.ceiling_bytes, output.command)
    layers = [at_level(layer, target.frame) for layer in layers]
    asked = [errand(layer, target.frame, began) for layer in layers]
    errands = [one for one in asked if one is not None]
    check_size(errands, output, yes=fetching.yes)
    chose = [*remarks(found.said), *asked_for(errands)]
    receipt = Receipt(
        "fetch", (source.path,), output.out, planned=output.dry_run, touched=(source.path,),
        frame=target.frame, chose=distinct(chose), checks=remarks(found.remarks),
    )  # fmt: skip
    if output.dry_run:
        return _planned(receipt, layers, target, output)
    refuse_offline(errands, source.name, offline=inputs.offline)
    brought, lost = bring(errands, output)
    come = iter(brought)
    whole = [next(come) if one is not None else layer for layer, one in zip(layers, asked, strict=True)]
    here = [layer for layer in whole if layer is not None]
    here, collars, trimmings = trimmed(here, inputs, output)
    told = replace(receipt, chose=(*receipt.chose, *collars), checks=(*receipt.checks, *trimmings))
    made = _written(told, here, target, output, fetching)
    return replace(
        made,
        checks=(*made.checks, *credit(source)),
        lost=tuple(lost),
        exit_code=LOSSES if lost else made.exit_code,
    )


def _in_order(found: SourceLayers, composite: str) -> SourceLayers:
    """What was found, in the order in which a cell goes to the first that has it."""
    if composite != "least-cloud":
        return found
    clouds = sorted(found.layers, key=lambda layer: 100.0 if layer.cloud is None else layer.cloud)
    return replace(found, layers=tuple(clouds))


def _layers(found: SourceLayers, inputs: Inputs) -> list[Layer]:
    layers = []
    for one in found.layers:
        raster = one.raster
        if inputs.bands:
            raster = select_bands(raster, pick_bands(raster.bands, inputs.bands))
        layers.append(Layer(Path(one.name), raster))
    return layers


def _planned(receipt: Receipt, layers: Sequence[Layer], target: Target, output: Output) -> Receipt:
    bands = layers[0].raster.bands
    most = target.frame.size * sum(band.dtype.itemsize for band in bands)
    room = free_at(output.path)
    planned = Result(
        output.path, bytes_at_most=most, frame=target.frame, bands=len(bands), type=bands[0].type, free=room
    )
    return replace(receipt, results=(planned,))


def _written(
    receipt: Receipt, layers: Sequence[Layer], target: Target, output: Output, fetching: Fetching
) -> Receipt:
    """The layers, joined on the target, and what was chosen for that."""
    same, said = alike(layers)
    pieces, touched, methods = pieces_of(same, target, fetching.method)
    rule = COMPOSITES[fetching.composite]
    whole, more = sewn(pieces, touched, target, fetching.method, rule)
    cover = target.cover() if target.asked.mask else None
    written = write(masked(whole, cover), output.path, output, cover=cover)
    several = [fact("overlap", rule=rule)] if len(layers) > 1 else []
    chose: list[Fact] = [*receipt.chose, *target.chose, *said, *(more or methods), *several, *written.chose]
    return replace(
        receipt, chose=distinct(chose), checks=(*receipt.checks, *written.checks), results=(written.result,),
        seconds=output.seconds,
    )  # fmt: skip


def _wish(inputs: Inputs, where: Where, fetching: Fetching) -> Wish:
    """What is wanted, its ground in degrees. Raises UsageError where no area is said."""
    frame = asked_frame(where)
    crs = asked_crs(where) or (frame.crs if frame is not None else None)
    degrees = by_code(4326)
    if where.within:  # the rectangle of the result, which is one in its own CRS
        bounds = box_bounds(resolve(where, crs or degrees).bounds, crs or degrees, degrees)
    elif frame is not None:
        bounds = carried_bounds(frame, degrees)
    else:
        raise UsageError(
            "no area is said", "a source may cover the whole Earth", "add --within AREA, or --onto FRAME"
        )
    dates = parse_dates(fetching.dates) if fetching.dates else None
    cell = parse_cell(where.cell) if where.cell else None
    return Wish(
        bounds,
        frame,
        asked_crs(where),
        cell,
        fetching.zoom,
        dates,
        fetching.cloud,
        inputs.bands,
        fetching.blocks_where,
    )


def parse_dates(text: str) -> Dates:
    """`2024`, `2024-05`, `2024-05-31` or two of them with `..` between. Raises UsageError."""
    first, dots, last = text.partition("..")
    one, other = _days(first, text), _days(last if dots else first, text)
    if one.first > other.last:
        raise UsageError(
            f"--dates {text}", "the first day comes after the last", f"write --dates {last}..{first}"
        )
    return Dates(one.first, other.last)


def _days(word: str, text: str) -> Dates:
    found = _DAY.fullmatch(word.strip())
    try:
        if found is None:
            raise ValueError(word)
        year, month, day = int(found[1]), found[2], found[3]
        first = datetime.date(year, int(month or 1), int(day or 1))
        if day:
            return Dates(first, first)
        following = (
            datetime.date(year + 1, 1, 1)
            if not month or month == "12"
            else datetime.date(year, int(month) + 1, 1)
        )
        return Dates(first, following - datetime.timedelta(days=1))
    except ValueError as exc:
        why = "a year, a month or a day is needed, or two with .. between"
        raise UsageError(f"--dates {text}", why, "write --dates 2024-05..2024-09") from exc
