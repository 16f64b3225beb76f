"""deliver chart: raster nautical charts, and a catalogue of several."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, NamedTuple

import numpy as np

from zembrel.deliver.devices.rules import PackTraits
from zembrel.deliver.fewcolours import FewColours, how_unlike, in_few_colours
from zembrel.draw.ramps import check_ramp
from zembrel.engine.commit import Staging, check_free, resource_errors
from zembrel.engine.limits import Limits
from zembrel.engine.plan import check_room, free_at
from zembrel.engine.run import run
from zembrel.errors import ResourceError, UsageError, nearest_name
from zembrel.facts import Fact, distinct, fact
from zembrel.formats.kap.kapreading import open_chart
from zembrel.formats.kap.kapwriting import MOST_COLOURS, PER_INCH, ChartFacts, chart_sink, place_of
from zembrel.formats.kap.placing import MERCATOR
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import ground, turn_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.handles import size_on_disk
from zembrel.inputs.intake import take
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import Layer, open_layers
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import decide, masked
from zembrel.measure import parse_date
from zembrel.optiontext import OptionText
from zembrel.packing.packcells import as_colours, in_colours
from zembrel.packing.square import ROUNDING
from zembrel.pictures.appearance import Stretch
from zembrel.pictures.brush import NO_BRUSH, Brush
from zembrel.raster.model import Raster, has_alpha
from zembrel.raster.passing import blocks_of
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.opacity import Flattened
from zembrel.raster.views.place import crop
from zembrel.raster.views.quantized import DITHERS
from zembrel.results.endings import check_ending
from zembrel.results.receipt import Receipt, Result
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbtable.record import RASTERS

ENDING = ".kap"
CATALOGUE = ("charts.csv", "charts.geojson")
_INCH = 0.0254
_CELL_BYTES = 2  # of a run of one cell, at most
_PAPER = (255.0, 255.0, 255.0)


@dataclass(frozen=True)
class Charting:
    """How charts are made."""

    scale: Annotated[int | None, OptionText("25000 for 1:25,000. Default: from the cell size.", "N")] = None
    colours: Annotated[int, OptionText("Largest number of colours, 2 to 127.", "N")] = MOST_COLOURS
    dither: Annotated[str, OptionText("Dithering: diffusion, ordered or none.", "WAY")] = "diffusion"
    panels: Annotated[str | None, OptionText("Split each chart, e.g. 2x3; --out is a folder/.", "CxR")] = None
    title: Annotated[str | None, OptionText("Title of the chart.", "TEXT")] = None
    number: Annotated[str | None, OptionText("Number of the chart in its series.", "TEXT")] = None
    edition: Annotated[str, OptionText("Edition of the chart.", "TEXT")] = "1"
    edition_date: Annotated[
        str | None, OptionText("Edition date, e.g. 2027-01-31. Default: the newest input.", "DATE")
    ] = None
    method: MethodName = "auto"
    brush: Brush = NO_BRUSH
    stretch: Stretch = None


class _Sheet(NamedTuple):
    """A chart to be: its place, the pane of its view, and what it says of itself."""

    path: Path
    pane: Pane
    facts: ChartFacts


class _Source(NamedTuple):
    """What one chart, or its panels, are made of."""

    view: Raster
    sheets: list[_Sheet]
    said: list[Fact]


def chart(
    inputs: Inputs, where: Where, output: Output, charting: Charting, carry: Carry = NOWHERE
) -> Receipt:
    """Rasters, seen as one, as a chart `.kap`; into a folder a chart of each, with a catalogue.

    Raises UsageError for words that mean nothing, InputError where nothing lies in the area.
    """
    _check(output, output.to_folder, charting)
    return carried(carry, output, "chart", lambda: _packed(inputs, where, output, charting))


def _packed(inputs: Inputs, where: Where, output: Output, charting: Charting) -> DeliveredPack:
    """The charts, and what a device asks of them."""
    folder = output.to_folder
    layers = open_layers(take(inputs, output, (RASTERS,)))
    groups = [[layer] for layer in layers] if folder else [layers]
    sources = [_source(group, where, output, folder, charting) for group in groups]
    sheets = [sheet for source in sources for sheet in source.sheets]
    _check_places(sheets, folder, output)
    size = sum(_CELL_BYTES * sheet.pane.size for sheet in sheets)
    scale = sheets[0].facts.scale * (size / output.ceiling_bytes) ** 0.5 * ROUNDING
    fits = f"--scale {-(-scale // 1000) * 1000:.0f}" if len(sources) == 1 else ""
    check_room(output.path, size, output.ceiling_bytes, output.command, f"{len(sheets)} charts", fits)
    paths = tuple(layer.path for layer in layers)
    receipt = Receipt(
        "deliver chart", paths, output.out, planned=output.dry_run, touched=paths,
        frame=sources[0].view.frame if len(sources) == 1 else None,
        chose=distinct(tuple(said for source in sources for said in source.said)),
    )  # fmt: skip
    if output.dry_run:
        room = free_at(output.path)
        planned = Result(output.path, bytes_at_most=size, count=len(sheets), what="charts", free=room)
        return DeliveredPack(replace(receipt, results=(planned,)), PackTraits("chart"))
    made, checks, colours = _written(sources, folder, output, charting)
    done = replace(receipt, checks=checks, results=(made,), seconds=output.seconds)
    files = tuple(sheet.path for sheet in sheets) if folder else ()
    return DeliveredPack(done, PackTraits("chart", colours=colours), files)


def _check(output: Output, folder: bool, charting: Charting) -> None:
    if not folder:
        check_ending(output.path, (ENDING,), "chart")
    if charting.panels and not folder:
        raise UsageError(f"--panels {charting.panels}", "they are files of a folder", "write --out charts/")
    if not 2 <= charting.colours <= MOST_COLOURS:
        what = f"--colours {charting.colours}"
        raise UsageError(what, f"a chart has 2 to {MOST_COLOURS}", f"write --colours {MOST_COLOURS}")
    if charting.dither not in DITHERS:
        why = f"known are {', '.join(DITHERS)}"
        raise UsageError(f"--dither {charting.dither}", why, nearest_name(charting.dither, DITHERS))
    if charting.scale is not None and not 100 <= charting.scale <= 100_000_000:
        raise UsageError(f"--scale {charting.scale}", "it is the number below 1", "write --scale 25000")
    if charting.brush.ramp is not None:
        check_ramp(charting.brush.ramp)
    _panels(charting.panels)


def _panels(text: str | None) -> tuple[int, int]:
    """Columns and rows of panels. Raises UsageError."""
    across, _, down = (text or "1x1").lower().partition("x")
    if not (across.isdigit() and down.isdigit() and 1 <= int(across) <= 50 and 1 <= int(down) <= 50):
        raise UsageError(f"--panels {text}", "columns and rows are needed, 1 to 50", "write --panels 2x3")
    return int(across), int(down)


def _source(
    layers: Sequence[Layer], where: Where, output: Output, folder: bool, charting: Charting
) -> _Source:
    """Rasters, seen as one, as opaque red, green and blue in Mercator, and the charts they become."""
    target = decide(layers, replace(where, crs=f"EPSG:{MERCATOR}"))
    if charting.scale is not None:
        per_x, _ = ground(target.frame)
        cell = charting.scale / PER_INCH * _INCH / per_x
        target = decide(layers, replace(where, crs=f"EPSG:{MERCATOR}", cell=f"{cell:.9f}"))
    view, said = joined(layers, target, charting.method)
    view = masked(view, target.cover() if where.mask else None)
    spread = layers[0].raster if len(layers) == 1 and not where.within else view
    held = in_colours(as_colours(view, charting.brush, charting.stretch, spread, output.limits))
    shown = held.view
    shown = Flattened(shown, _PAPER) if has_alpha(shown.bands) else shown
    shown = select_bands(shown, (0, 0, 0)) if len(shown.bands) == 1 else shown
    scale = float(charting.scale or round(target.frame.cell[0] * ground(target.frame)[0] * PER_INCH / _INCH))
    stem = layers[0].path.stem if folder else output.path.stem
    sheets = _sheets(shown.frame, stem, scale, output, folder, charting)
    return _Source(shown, sheets, [*said, *held.chose, fact("chart_scale", scale=scale, per_inch=PER_INCH)])


def _sheets(
    frame: Frame, stem: str, scale: float, output: Output, folder: bool, charting: Charting
) -> list[_Sheet]:
    """One chart, or panels of about equal size from the north-west."""
    across, down = _panels(charting.panels)
    rows = np.linspace(0, frame.rows, down + 1).astype(int).tolist()
    columns = np.linspace(0, frame.columns, across + 1).astype(int).tolist()
    made, name = list[_Sheet](), charting.title or stem
    issued = parse_date("--edition-date", charting.edition_date)
    for row in range(down):
        for column in range(across):
            pane = Pane(rows[row], columns[column], rows[row + 1], columns[column + 1])
            part = f"-{row * across + column + 1}" if across * down > 1 else ""
            path = output.path / f"{stem}{part}{ENDING}" if folder else output.path
            number = f"{charting.number or stem}{part}"
            words = f"{name} panel {part[1:]}" if part else name
            made.append(_Sheet(path, pane, ChartFacts(words, number, scale, charting.edition, issued)))
    return made


def _check_places(sheets: Sequence[_Sheet], folder: bool, output: Output) -> None:
    names = [sheet.path.name for sheet in sheets]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise UsageError(f"two charts would be {twice}", "they are named after their inputs", "rename one")
    if not output.dry_run:
        extra = [output.path / name for name in CATALOGUE] if folder else []
        for path in [*(sheet.path for sheet in sheets), *extra]:
            check_free(path, output.replace)


def _written(
    sources: Sequence[_Source], folder: bool, output: Output, charting: Charting
) -> tuple[Result, tuple[Fact, ...], int]:
    """All charts and their catalogue in their places, how good they are, and the most colours of one."""
    said, rows, size = list[Fact](), list[dict[str, Any]](), 0
    with Staging(output.replace) as staging:
        for source in sources:
            few = in_few_colours(source.view, charting.colours, charting.dither, output.limits)
            said += _quality(source.view, few, output.limits)
            for sheet in source.sheets:
                staged = staging.path_for(sheet.path)
                view = crop(few.view, sheet.pane)
                with resource_errors(sheet.path):
                    sink = chart_sink(staged, view.frame, few.palette, few.void, sheet.facts)
                    run(view, sink, output.limits)
                said.append(_read_back(staged, view.frame, output.limits))
                size += size_on_disk(staged)
                rows.append(_row(sheet, view.frame, len(few.palette.entries)))
        if folder:
            staging.write_text(output.path / CATALOGUE[0], _as_csv(rows))
            staging.write_text(output.path / CATALOGUE[1], _as_geojson(rows))
        staging.publish()
    how = tuple(f"catalogue {name}" for name in CATALOGUE) if folder else ()
    made = Result(output.path, size, count=len(rows), what="charts", how=how, seconds=output.seconds)
    return made, distinct(tuple(said)), max(row["colours"] for row in rows)


def _quality(view: Raster, few: FewColours, limits: Limits) -> list[Fact]:
    if few.exact:
        return [fact("colours_exact", colours=len(few.palette.entries))]
    mean, most = how_unlike(view, few, limits)
    return [fact("colours_unlike", colours=len(few.palette.entries), mean=mean, ninety_five=most)]


def _read_back(path: Path, frame: Frame, limits: Limits) -> Fact:
    """That a strict reader finds every row, and the place by the reference points alone."""
    found, place = open_chart(path), place_of(frame)
    for pane in blocks_of(found):
        found.cells(pane)
    there = found.frame.corners
    turn = turn_of(found.frame.crs) or 0.0
    x, y = frame.corners.at(0.0, 0.0)
    corner = there.position(x + turn * round((there.x0 - x) / turn), y)
    off = max(abs(corner[0]), abs(corner[1]))
    if off > 0.5 or found.frame.pane != frame.pane:
        raise ResourceError(f"{path.name} is not what was written", f"it is {off:g} cells off", "report it")
    return fact("chart_read_back", most=max(place.most_off, off))


def _row(sheet: _Sheet, frame: Frame, colours: int) -> dict[str, Any]:
    """A line of the catalogue, with the outline in degrees."""
    west, south, east, north = frame.bounds
    x, y = np.array([west, east, east, west, west]), np.array([north, north, south, south, north])
    assert frame.crs is not None
    lon, lat = operation(frame.crs, by_code(4326))(x, y)
    lon = np.unwrap(lon, period=360)  # an outline across the antimeridian stays one
    ring = [[round(float(a), 9), round(float(b), 9)] for a, b in zip(lon, lat, strict=True)]
    return {
        "file": sheet.path.name, "name": sheet.facts.name, "number": sheet.facts.number,
        "scale": int(sheet.facts.scale), "columns": frame.columns, "rows": frame.rows, "colours": colours,
        "ring": ring,
    }  # fmt: skip


def _as_csv(rows: Sequence[dict[str, Any]]) -> str:
    held = io.StringIO()
    names = [name for name in rows[0] if name != "ring"]
    writer = csv.writer(held, lineterminator="\n")
    writer.writerow([*names, "west", "south", "east", "north"])
    for row in rows:
        (west, north), (east, south) = row["ring"][0], row["ring"][2]
        writer.writerow([*(row[name] for name in names), west, south, east, north])
    return held.getvalue()


def _as_geojson(rows: Sequence[dict[str, Any]]) -> str:
    features = [
        {
            "type": "Feature",
            "properties": {name: value for name, value in row.items() if name != "ring"},
            "geometry": {"type": "Polygon", "coordinates": [row["ring"][::-1]]},
        }
        for row in rows
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}, indent=1) + "\n"
