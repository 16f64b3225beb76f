"""mosaic: many layers become one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from zembrel.errors import InputError
from zembrel.grid.extent import carried_bounds
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.raster.disagreement import Disagreement, disagreements
from zembrel.raster.model import Band, Raster, is_photo, shared_type
from zembrel.raster.views.cast import cast
from zembrel.raster.views.collar import Trimmed, find_collar
from zembrel.raster.views.mosaic import Mosaic, Piece, check_overlap
from zembrel.raster.views.palette import expand_palette
from zembrel.verbs.inputs import Layer, open_layers
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Receipt, frame_items, named
from zembrel.verbs.target import Target, brought, decide, masked
from zembrel.verbs.write import write

COLLAR_SHARE = 0.01  # dark border runs from which a photo is said to have a collar


def mosaic(
    inputs: Inputs,
    where: Where,
    output: Output,
    *,
    overlap: str = "first",
    method: str = "auto",
    trim_collar: bool = False,
) -> Receipt:
    """Bring all inputs to one frame and join them; `overlap` says who wins.

    Unlike cell types become the one that holds both; palettes that differ become colour bands.
    Raises InputError if band counts differ or nothing lies in the area.
    """
    check_overlap(overlap)
    layers = open_layers(inputs, output.path)
    layers, chose = _alike(layers)
    target = decide(layers, where)
    layers, collars = _without_collars(layers, trim_collar)
    pieces, names, methods = _pieces(layers, target, method)
    if not pieces:
        raise InputError(
            "no input lies on the frame", "the mosaic would be empty", "check --onto or --within"
        )
    cover = target.cover() if where.mask else None
    bands = _bands([piece.raster for piece in pieces])
    whole = Mosaic(tuple(pieces), target.frame, bands, overlap)
    found = disagreements(pieces) if not output.dry_run else []
    written = write(masked(whole, cover), output.path, output, cover=cover)
    chose += [*target.chose, *methods, f"overlap {overlap}", *collars, *written.chose]
    checks = [*written.checks, *_overlap_items(found, names)]
    if len(layers) > len(pieces):
        checks.append(f"{len(layers) - len(pieces)} inputs outside the area left out")
    facts = {
        "inputs": [str(layer.path) for layer in layers],
        "chose": chose,
        "checks": checks,
        "overlaps": [_overlap_facts(entry, names) for entry in found],
        "results": [written.facts],
    }
    lines = (
        ("frame", frame_items(target.frame)),
        ("chose", tuple(dict.fromkeys(chose))),
        ("checks", tuple(checks)),
        ("plan" if output.dry_run else "wrote", written.wrote),
    )
    return Receipt("mosaic", f"{named([layer.path for layer in layers])} -> {output.out}", lines, facts)


def _alike(layers: Sequence[Layer]) -> tuple[list[Layer], list[str]]:
    """The layers with bands of one count and one type. Raises InputError if the counts differ."""
    chose: list[str] = []
    legends = {layer.raster.bands[0].legend for layer in layers}
    if len(legends) > 1 and any(layer.raster.bands[0].legend for layer in layers):
        layers = [Layer(layer.path, expand_palette(layer.raster)) for layer in layers]
        chose.append("palettes to colour bands (they differ)")
    counts = [len(layer.raster.bands) for layer in layers]
    odd = next((n for n, count in enumerate(counts) if count != counts[0]), None)
    if odd is not None:
        raise InputError(
            f"{layers[odd].path} has {counts[odd]} band(s), {layers[0].path} has {counts[0]}",
            "bands of one result are made of like bands",
            "choose the same from all with --bands",
        )
    types = sorted({shared_type(layer.raster.bands).name for layer in layers})
    if len(types) > 1:
        common = shared_type(tuple(Band("", kind) for kind in types)).name
        layers = [Layer(layer.path, cast(layer.raster, common)) for layer in layers]
        chose.append(f"type {common} (holds {', '.join(types)})")
    return list(layers), chose


def _without_collars(layers: list[Layer], trim: bool) -> tuple[list[Layer], list[str]]:
    """Photos without their collars, or a word about those that have one."""
    photos = [layer for layer in layers if is_photo(layer.raster.bands)]
    if not trim:
        return layers, []
    trimmed, count = [], 0
    for layer in layers:
        collar = find_collar(layer.raster) if layer in photos else None
        if collar is not None and collar.share > 0:
            count += 1
            layer = Layer(layer.path, Trimmed(layer.raster, collar))
        trimmed.append(layer)
    return trimmed, [f"collars trimmed from {count} of {len(layers)} inputs"]


def _pieces(layers: Sequence[Layer], target: Target, method: str) -> tuple[list[Piece], list[str], list[str]]:
    """The layers that meet the frame, their names, and what was chosen to bring them there."""
    pieces, names, chose = [], [], []
    for layer in layers:
        footprint = _footprint(layer.raster.frame, target.frame)
        if footprint is None:
            continue
        raster, choice = brought(layer, target, method)
        pieces.append(Piece(raster, footprint))
        names.append(layer.path.stem)
        chose += choice
    unlike = [item for item in dict.fromkeys(chose) if item != "native cells"]
    return pieces, names, unlike or ["native cells"]


def _footprint(source: Frame, target: Frame) -> Pane | None:
    """The cells of `target` that `source` may reach."""
    bounds = source.bounds if target.crs is None else carried_bounds(source, target.crs)
    return target.pane_of(*bounds).grown(1).meet(target.pane)


def _bands(rasters: Sequence[Raster]) -> tuple[Band, ...]:
    """The first raster's bands, their nodata kept only if all agree on it."""
    agreed = len({band.nodata for raster in rasters for band in raster.bands}) == 1
    first = rasters[0].bands
    return first if agreed else tuple(replace(band, nodata=None) for band in first)


def _overlap_facts(found: Disagreement, names: Sequence[str]) -> dict[str, Any]:
    pair = [names[found.first], names[found.second]]
    return {
        "inputs": pair, "cells": found.cells, "mean": found.mean, "rms": found.rms, "worst": found.worst,
    }  # fmt: skip


def _overlap_items(found: Sequence[Disagreement], names: Sequence[str]) -> list[str]:
    if not found:
        return []
    cells = sum(entry.cells for entry in found)
    rms = (sum(entry.rms**2 * entry.cells for entry in found) / cells) ** 0.5
    worst = max(found, key=lambda entry: entry.rms)
    pair = f"{names[worst.first]}/{names[worst.second]}"
    return [f"overlaps differ {rms:.2g} rms (probed), worst pair {pair} {worst.rms:.2g}"]
