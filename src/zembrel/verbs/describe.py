"""describe: what a layer is; several side by side."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import groupby
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from zembrel import pictures
from zembrel.engine.commit import check_free
from zembrel.facts import fact
from zembrel.formats import format_named, identify, layers_of
from zembrel.geodesy.crs import UnresolvedCRS, label
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import operation_of
from zembrel.inputs.intake import Given
from zembrel.inputs.layers import Layer, open_layers
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.measure import show_bytes, show_number
from zembrel.optiontext import OptionText
from zembrel.pictures.figures import add_statistics, add_values
from zembrel.raster.model import Band, Raster, shared_type
from zembrel.results.dispatch import by_kind
from zembrel.results.endings import BROWSER_PAGES, PICTURES, check_ending
from zembrel.results.history import histories
from zembrel.results.phrases import show_bounds, show_cell, show_table
from zembrel.results.receipt import Receipt, frame_facts

Rows = list[tuple[str, str]]
DIFFERS = "*"
SIDE_BY_SIDE = 3  # more layers than that get a line each
_GIVE = ": give it"  # where a hint begins that has no room in a column
_UNDECLARED = "none declared: give it with --from-nodata if cells are void, or mend the file with label"
_MOST_SLICES = 6  # of one variable that are named one by one
_LISTED = ("CRS", "cell", "cells", "bands", "nodata")


@dataclass(frozen=True)
class Looking:
    """What is told besides: exact figures of each band or field; values at `X,Y[@CRS]`; a page or sheet. Or
    instead, how files came about."""

    stats: Annotated[bool, OptionText("Compute exact minimum, maximum, mean and standard deviation.")] = False
    at: Annotated[str | None, OptionText("Show the values at X,Y or X,Y@EPSG:4326.", "X,Y[@CRS]")] = None
    page: Annotated[
        str | None,
        OptionText("Write a page (.html, .pdf or .png); for several inputs a contact sheet.", "PATH"),
    ] = None
    history: Annotated[bool, OptionText("Show the processing history that files and packs contain.")] = False


def describe(inputs: Inputs, output: Output, looking: Looking = Looking()) -> Receipt:
    """Facts of each input as text or, in `facts`, for programs; or how it came about."""
    if looking.history:
        return histories(inputs, output)
    return by_kind("describe", inputs, Where(), output, looking)


def of_rasters(given: Given, where: Where, output: Output, looking: Looking) -> Receipt:
    """Facts of each raster."""
    stats, at = looking.stats, looking.at
    layers = open_layers(given)
    facts = [_facts(layer) for layer in layers]
    tables = [_rows(layer) for layer in layers]
    for layer, table, found in zip(layers, tables, facts, strict=True):
        if stats:
            add_statistics(layer, table, found, output)
        if at:
            add_values(layer, at, table, found)
    show = _side_by_side if len(layers) <= SIDE_BY_SIDE else _listed
    text = show_table(tables[0]) if len(layers) == 1 else show(layers, tables)
    if looking.page is None:
        return Receipt("describe", given.paths, own={"layers": facts}, data=text)
    page = Path(looking.page)
    check_ending(page, (*PICTURES, *BROWSER_PAGES), "page")
    check_free(page, output.replace)
    pictures.describepage.write_page(layers, tables, page, output)
    chose = (fact("page_of_one"),) if len(layers) == 1 else (fact("contact_sheet", layers=len(layers)),)
    return Receipt(
        "describe", given.paths, chose=chose, own={"layers": facts}, products={"page": page}, data=text
    )


def _facts(layer: Layer) -> dict[str, Any]:
    raster, path = layer.raster, layer.path
    name = None if layer.held else identify(layer.origin)
    return {
        "path": str(path),
        "format": name,
        "bytes": None if layer.held else layer.origin.size,
        "layers": [] if layer.held else layers_of(layer.origin),
        "frame": frame_facts(raster.frame),
        "bands": [
            {
                "name": b.name,
                "type": b.type,
                "nodata": b.nodata,
                "unit": b.unit or None,
                "colour": b.colour or None,
            }
            | ({"classes": {e.code: e.name for e in b.legend.entries if e.name}} if b.legend else {})
            for b in raster.bands
        ],
        "remarks": layer.remarks,
        "compression": getattr(getattr(raster, "layout", None), "compression", None),
        "overviews": len(getattr(raster, "reduced", ())),
        "mask": getattr(raster, "mask", None) is not None or getattr(raster, "alpha", None) is not None,
    }


def _stored(layer: Layer) -> Rows:
    """Format and size."""
    cells = f"{show_bytes(_raw_bytes(layer.raster))} of cells"
    if layer.held:
        return [("format", "none: computed when asked for"), ("size", cells)]
    title = format_named(identify(layer.origin)).title.split(",")[0] + _storage(layer.raster)
    return [("format", title), ("size", f"{show_bytes(layer.origin.size)} on disk, {cells}")]


def _rows(layer: Layer) -> Rows:
    raster, path = layer.raster, layer.path
    frame = raster.frame
    rows = [
        ("file", str(path)),
        *_stored(layer),
        (
            "CRS",
            label(frame.crs)
            if frame.crs
            else "missing: give it with --from-crs, or mend the file with label",
        ),
        ("extent", show_bounds(frame)),
    ]
    if frame.crs is not None and not isinstance(frame.crs, UnresolvedCRS):
        rows.append(("middle", _middle(raster)))
    rows += [
        ("cell", show_cell(frame) + ("" if frame.north_up else ", turned")),
        ("cells", f"{frame.columns:,} columns x {frame.rows:,} rows, values on {_anchor(raster)}"),
        (
            "bands",
            f"{len(raster.bands)} {shared_type(raster.bands).name}: {', '.join(_band_names(raster.bands))}",
        ),
        ("nodata", _nodata(raster)),
    ]
    scales = {(b.scale, b.offset) for b in raster.bands} - {(1.0, 0.0)}
    rows += [
        ("scale", f"{s:g}, offset {o:g}: convert --unscaled makes values of them") for s, o in sorted(scales)
    ]
    rows += [("note", remark) for remark in layer.remarks]
    layers = [] if layer.held else layers_of(layer.origin)
    if len(layers) > 1:
        rows.append(("layers", f"{len(layers)}: choose with --layer {layers[0]} to {layers[-1]}"))
    legend = raster.bands[0].legend
    if legend is not None:
        named = [f"{entry.code} {entry.name}" for entry in legend.entries if entry.name]
        rows.append(("legend", ", ".join(named) or f"{len(legend.entries)} colours"))
    return rows


def _band_names(bands: Sequence[Band]) -> Iterator[str]:
    """Names and units of bands; of many slices of one variable the first and the last."""
    for slot, group in groupby(bands, key=lambda band: band.slot.variable if band.slot else None):
        held = list(group)
        if slot is not None and len(held) > _MOST_SLICES:
            unit = f" in {held[0].unit}" if held[0].unit else ""
            yield f"{held[0].name} to {held[-1].name.removeprefix(slot + ' ')} ({len(held)}){unit}"
        else:
            yield from (f"{band.name} in {band.unit}" if band.unit else band.name for band in held)


def _storage(raster: Raster) -> str:
    layout = getattr(raster, "layout", None)
    if layout is None:
        return ""
    segments = f"tiles of {layout.columns}" if layout.tiled else f"strips of {layout.rows}"
    count = len(getattr(raster, "reduced", ()))
    return f", {layout.compression}, {segments}, {count} overviews"


def _raw_bytes(raster: Raster) -> int:
    return raster.frame.size * sum(band.dtype.itemsize for band in raster.bands)


def _anchor(raster: Raster) -> str:
    return "nodes" if raster.frame.registration == "node" else "cells"


def _nodata(raster: Raster) -> str:
    values = {band.nodata for band in raster.bands}
    named = ", ".join(show_number(v) for v in values if v is not None)
    mask = getattr(raster, "mask", None) is not None
    alpha = getattr(raster, "alpha", None) is not None
    kinds = [named, "mask" if mask else "", "alpha" if alpha else ""]
    return ", ".join(kind for kind in kinds if kind) or _UNDECLARED


def _middle(raster: Raster) -> str:
    frame = raster.frame
    x, y = frame.centres(np.array([frame.columns / 2 - 0.5]), np.array([frame.rows / 2 - 0.5]))
    assert frame.crs is not None
    lon, lat = operation_of(frame, by_code(4326))(x, y)
    if not np.isfinite([lon[0], lat[0]]).all():
        return "outside the CRS's domain"
    return f"{abs(lat[0]):.5f} {'N' if lat[0] >= 0 else 'S'}  {abs(lon[0]):.5f} {'E' if lon[0] >= 0 else 'W'}"


def _side_by_side(layers: list[Layer], tables: list[Rows]) -> str:
    """One column for each layer; `*` before a row says that they differ there."""
    words = list(dict.fromkeys(word for table in tables for word, _ in table if word != "file"))
    cells = [[dict(table).get(word, "-").partition(_GIVE)[0] for table in tables] for word in words]
    widths = [
        max(len(str(layer.path)), *(len(row[n]) for row in cells)) + 3 for n, layer in enumerate(layers)
    ]
    margin = max(len(word) for word in words) + 5
    heads = "".join(f"{layer.path!s:<{width}}" for layer, width in zip(layers, widths, strict=True))
    lines = [" " * margin + heads.rstrip()]
    for word, row in zip(words, cells, strict=True):
        mark = DIFFERS if len(set(row)) > 1 else " "
        text = "".join(f"{cell:<{width}}" for cell, width in zip(row, widths, strict=True))
        lines.append(f"{mark} {word:<{margin - 2}}{text}".rstrip())
    return "\n".join(lines) + f"\n{DIFFERS} marks where they differ\n"


def _listed(layers: list[Layer], tables: list[Rows]) -> str:
    """A line for each layer with what most often differs; `*` before a heading says that it does."""
    rows = [["file", *_LISTED]]
    for layer, table in zip(layers, tables, strict=True):
        frame = layer.raster.frame
        facts = dict(table) | {"cells": f"{frame.columns:,} x {frame.rows:,}"}
        facts |= {} if frame.crs else {"CRS": "missing"}
        rows.append([str(layer.path), *(facts[word].partition(_GIVE)[0] for word in _LISTED)])
    for n, word in enumerate(_LISTED, 1):
        rows[0][n] = (DIFFERS if len({row[n] for row in rows[1:]}) > 1 else "") + word
    return (
        show_table(rows) + f"{DIFFERS} marks what differs; name up to {SIDE_BY_SIDE} files to see all of it\n"
    )
