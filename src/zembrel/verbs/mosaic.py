"""mosaic: many layers become one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from zembrel.engine.commit import Staging
from zembrel.errors import UsageError
from zembrel.facts import Fact, distinct, fact, remarks
from zembrel.formats import choose_format
from zembrel.formats.quilt import Sewing
from zembrel.grid.extent import footprint_of
from zembrel.grid.frame import Frame
from zembrel.inputs.alike import alike
from zembrel.inputs.collars import trimmed
from zembrel.inputs.intake import Given
from zembrel.inputs.landing import landing
from zembrel.inputs.layers import Layer, open_layers
from zembrel.inputs.lengths import in_cells
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.pieces import agreed_bands, pieces_of, sewn
from zembrel.inputs.target import Target, decide, masked
from zembrel.optiontext import OptionText
from zembrel.raster.disagreement import MOST_PAIRS, Disagreement, commons, disagreements
from zembrel.raster.model import has_alpha
from zembrel.raster.tone import matched
from zembrel.raster.views.mosaic import FEATHER
from zembrel.raster.views.opacity import colours_of
from zembrel.raster.views.overlap import RasterPiece, check_overlap
from zembrel.raster.views.tone import Toned
from zembrel.results.csvtext import csv_text
from zembrel.results.dispatch import by_kind
from zembrel.results.receipt import Receipt
from zembrel.results.write import write
from zembrel.sheetcutting import quilting, sheets

_ALL_PAIRS = 10**9
_SEEN = 0.5  # cells of shift between two sheets that is worth a word
_BLENDS = ("mean", "median", "sum", "feather")  # rules that make values no sheet had
_TABLE = ("first", "second", "cells", "mean", "rms", "worst", "shift_x", "shift_y")


@dataclass(frozen=True)
class Joining:
    """How sheets are joined.

    overlap: a rule, `feather` with a width if need be (`feather:20m`); order: `[-]FIELD@INDEX`, the field
    of a sheet index that orders them; table: a CSV file for how far every overlap disagrees.
    """

    overlap: Annotated[
        str,
        OptionText(
            "Value to use in overlaps: first, last, min, max, mean, median, sum, count, "
            "feather[:WIDTH], or divide for the nearest centre.",
            "RULE",
        ),
    ] = "first"
    method: MethodName = "auto"
    match_tone: Annotated[
        bool, OptionText("Adjust gain and offset of each sheet, from all overlaps together.")
    ] = False
    order: Annotated[
        str | None,
        OptionText(
            "Sort inputs by a field of a sheet index; -FIELD sorts in descending order.", "FIELD@INDEX"
        ),
    ] = None
    table: Annotated[str | None, OptionText("Write the differences and shifts between sheets.", "CSV")] = None
    source_ids: Annotated[bool, OptionText("Set the point source ID to the number of the input.")] = (
        False  # of points: the number of their input
    )


def mosaic(inputs: Inputs, where: Where, output: Output, joining: Joining) -> Receipt:
    """Bring all inputs to one frame and join them.

    Unlike cell types become the one that holds both; palettes that differ become colour bands. Raises
    InputError if bands cannot be matched or nothing lies in the area.
    """
    return by_kind("mosaic", inputs, where, output, joining)


def of_rasters(given: Given, where: Where, output: Output, joining: Joining) -> Receipt:
    """All rasters joined on one frame."""
    inputs = given.options
    rule, _, width = joining.overlap.partition(":")
    check_overlap(rule)
    layers, chose = _opened(given, where, joining)
    target = decide(layers, landing(where, output.path, output.format, layers))
    if choose_format(output.path, output.format) == "quilt":
        return _quilted(layers, target, inputs, output, joining, where)
    warned = [] if inputs.trim_collar or output.dry_run else sheets.collars(layers)
    layers, collars, trimmings = trimmed(layers, inputs, output)
    pieces, touched, methods = pieces_of(layers, target, joining.method)
    names = [layer.path.stem for layer in touched]
    toned: list[Fact] = []
    found: list[Disagreement] = []
    if joining.match_tone and not output.dry_run:
        touched, toned = _in_one_tone(pieces, touched)
        pieces, _, _ = pieces_of(touched, target, joining.method)
    if not output.dry_run:
        found = disagreements(_colours(pieces), _ALL_PAIRS if joining.table else MOST_PAIRS)
    cover = target.cover() if target.asked.mask else None
    whole, more = sewn(pieces, touched, target, joining.method, rule, _feather(width, target.frame))
    with Staging(output.replace) as staging:
        if joining.table and not output.dry_run:
            staging.write_text(Path(joining.table), _table(found, names, target.frame))
        written = write(masked(whole, cover), output.path, output, cover=cover)
        staging.publish()
    chose += [*target.chose, *(more or methods), fact("overlap", rule=joining.overlap), *toned, *collars]
    chose += written.chose
    checks = [*written.checks, *trimmings, *_gaps(layers, target), *_agreement(found, names)]
    checks += [*sheets.unlike(layers), *warned]
    checks += [fact("inputs_outside", inputs=len(layers) - len(pieces))] * (len(layers) > len(pieces))
    products = {"table": Path(joining.table)} if joining.table else {}
    own = {"overlaps": [_overlap_facts(entry, names) for entry in found]}
    return Receipt(
        "mosaic", tuple(layer.path for layer in layers), output.out,
        planned=output.dry_run, touched=tuple(layer.path for layer in touched), frame=target.frame,
        chose=distinct(chose), checks=tuple(checks), results=(written.result,), products=products, own=own,
    )  # fmt: skip


def _gaps(layers: Sequence[Layer], target: Target) -> list[Fact]:
    return sheets.gaps([layer.raster.frame for layer in layers], target.frame)


def _quilted(
    layers: Sequence[Layer], target: Target, inputs: Inputs, output: Output, joining: Joining, where: Where
) -> Receipt:
    rule, _, width = joining.overlap.partition(":")
    options = {
        "--match-tone": joining.match_tone,
        "--trim-collar": inputs.trim_collar,
        "--mask": where.mask,
        "--bands": inputs.bands,
        "--z-unit": where.z_unit,
        "--type": output.type,
    }
    quilting.refuse_changes([name for name, asked in options.items() if asked])
    placed = [(layer, footprint_of(layer.raster.frame, target.frame)) for layer in layers]
    inside = [(layer, footprint) for layer, footprint in placed if footprint is not None]
    bands = agreed_bands([layer.raster for layer in layers])
    sewing = Sewing(rule, _feather(width, target.frame), inputs.from_crs, inputs.from_nodata)
    return quilting.as_quilt(inside, target, bands, output, joining.method, sewing)


def _opened(given: Given, where: Where, joining: Joining) -> tuple[list[Layer], list[Fact]]:
    """The inputs in their order with like bands, and what was done for that."""
    layers = open_layers(given)
    if joining.order:
        layers = sheets.ordered(layers, joining.order)
    said = [item for layer in layers for item in remarks(layer.remarks)]
    layers, chose = alike(layers)
    chose = [*said, *chose]
    _refuse_blends(layers, joining, where)
    return layers, chose


def _refuse_blends(layers: Sequence[Layer], joining: Joining, where: Where) -> None:
    """Raise UsageError where class codes would be averaged."""
    rule = joining.overlap.partition(":")[0]
    what = f"overlap {rule}" if rule in _BLENDS else "--match-tone" if joining.match_tone else None
    codes = any(band.categorical for layer in layers for band in layer.raster.bands)
    if what and codes and not where.average_codes:
        raise UsageError(
            f"{what} would average class codes",
            "the mean of two codes is a third class that is not there",
            "use first, last, min, max or divide",
        )


def _feather(width: str, frame: Frame) -> float:
    """The width over which sheets fade in, in cells."""
    if not width:
        return FEATHER
    cells = max(in_cells(width, frame))
    if not 1 <= cells <= 4096:
        raise UsageError(
            f"overlap feather:{width} is {cells:.3g} cells wide",
            "sheets fade in over 1 to 4,096 cells",
            f"leave the width out: it is {FEATHER:.0f} cells then",
        )
    return cells


def _in_one_tone(pieces: Sequence[RasterPiece], layers: Sequence[Layer]) -> tuple[list[Layer], list[Fact]]:
    """The layers with gains and offsets that bring their overlaps together, and a word about it."""
    count = len(colours_of(pieces[0].raster).bands)
    before = _rms(disagreements(_colours(pieces)))
    solved = [matched(len(pieces), common) for common in commons(_colours(pieces), count)]
    gains, offsets = (np.array([band[n] for band in solved]).T for n in (0, 1))
    if has_alpha(pieces[0].raster.bands):  # opacity has no tone
        gains, offsets = np.pad(gains, ((0, 0), (0, 1)), constant_values=1), np.pad(offsets, ((0, 0), (0, 1)))
    changes = list(zip(map(tuple, gains.tolist()), map(tuple, offsets.tolist()), strict=True))
    toned = [
        replace(one, raster=Toned(one.raster, *change)) for one, change in zip(pieces, changes, strict=True)
    ]
    after = _rms(disagreements(_colours(toned)))
    if before is None or after is None:
        return list(layers), [fact("tone_kept")]
    said = fact("tone_matched", before=before, after=after)
    changed = [
        replace(one, raster=Toned(one.raster, *change)) for one, change in zip(layers, changes, strict=True)
    ]
    return changed, [said, fact("gains", lowest=gains.min(), highest=gains.max())]


def _colours(pieces: Sequence[RasterPiece]) -> list[RasterPiece]:
    """The pieces without opacity, of which no two have to agree."""
    return [replace(piece, raster=colours_of(piece.raster)) for piece in pieces]


def _table(found: Sequence[Disagreement], names: Sequence[str], frame: Frame) -> str:
    """All overlaps, shifts in units of the CRS, x to the right and y up."""
    across, along = frame.cell
    rows = [
        [
            names[entry.first], names[entry.second], entry.cells, entry.mean, entry.rms, entry.worst,
            None if entry.shift is None else entry.shift[0] * across,
            None if entry.shift is None else -entry.shift[1] * along,
        ]
        for entry in found
    ]  # fmt: skip
    return csv_text(_TABLE, rows)


def _overlap_facts(found: Disagreement, names: Sequence[str]) -> dict[str, Any]:
    pair = [names[found.first], names[found.second]]
    shift = None if found.shift is None else {"columns": found.shift[0], "rows": found.shift[1]}
    return {
        "inputs": pair, "cells": found.cells, "mean": found.mean, "rms": found.rms, "worst": found.worst,
        "shift": shift,
    }  # fmt: skip


def _rms(found: Sequence[Disagreement]) -> float | None:
    """Of all overlaps together."""
    cells = sum(entry.cells for entry in found)
    return (sum(entry.rms**2 * entry.cells for entry in found) / cells) ** 0.5 if cells else None


def _agreement(found: Sequence[Disagreement], names: Sequence[str]) -> list[Fact]:
    """How far overlaps differ, and are shifted against each other."""
    return [*_overlap_items(found, names), *_shift_items(found, names)]


def _overlap_items(found: Sequence[Disagreement], names: Sequence[str]) -> list[Fact]:
    rms = _rms(found)
    if rms is None:
        return []
    worst = max(found, key=lambda entry: entry.rms)
    pair = f"{names[worst.first]}/{names[worst.second]}"
    return [fact("overlaps_differ", rms=rms, pair=pair, worst=worst.rms)]


def _shift_items(found: Sequence[Disagreement], names: Sequence[str]) -> list[Fact]:
    """A word about the pair that is shifted most, if that can be seen."""
    shifted = [(float(np.hypot(*entry.shift)), entry) for entry in found if entry.shift is not None]
    if not shifted:
        return []
    far, worst = max(shifted, key=lambda pair: pair[0])
    if far < _SEEN:
        return [fact("no_shifts", below=_SEEN)]
    return [fact("shifted", sheet=names[worst.second], cells=far, against=names[worst.first])]
