"""Faults that only the cells tell: seams, collars, leaked nodata values, voids, misplacement, lost edges."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from zembrel.engine.run import over_panes
from zembrel.errors import InputError, ZembrelError
from zembrel.formats.tiff.rules import FAULT, GOOD, NOTE, RuleItem
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Output
from zembrel.inputs.target import Target, area_remarks, brought
from zembrel.measure import show_number
from zembrel.raster.codes import few_values
from zembrel.raster.model import Raster, is_photo, shared_type
from zembrel.raster.steps import SIDE, CellFindings, CellLook
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.collar import find_collar, shade_of
from zembrel.raster.views.unscaled import unscaled

CELLS = "cells"
_SHOWN, _WINDOW, _ACROSS = 4, 256, 5
_SHARP = 95.0  # per cent of cells that are no strong edge
_LEGIBLE = 0.7  # part of the contrast that edges of text must keep


def check_cells(layer: Layer, output: Output) -> Iterator[RuleItem]:
    """What is looked at in the cells of a raster, with the places of what is found."""
    raster = unscaled(layer.raster)
    codes = raster.bands[0].categorical or few_values(layer.raster) is not None
    found = CellFindings()
    first = select_bands(raster, (0,))
    panes = list(raster.frame.pane.blocks(SIDE, SIDE))
    for seen in over_panes(first, panes, CellLook(first), output.limits):
        found.note(seen)
    yield _placed(raster)
    yield _halves(raster)
    yield _voids(raster, found, len(panes))
    if not codes:
        yield _seams(raster, found)
        yield _leaks(raster, found)
    if is_photo(raster.bands) and shared_type(raster.bands).kind in "iu":
        yield _collar(raster, output)


def _item(rule: str, verdict: str, said: str) -> RuleItem:
    return RuleItem(CELLS, rule, verdict, said)


def _at(raster: Raster, row: float, column: float) -> str:
    x, y = raster.frame.corners.at(column, row)
    return f"{float(x):.10g},{float(y):.10g}"


def _placed(raster: Raster) -> RuleItem:
    rule = "the layer lies in the area of use of its CRS"
    if raster.frame.crs is None:
        return _item(rule, NOTE, "it has no CRS: add one with label --crs")
    try:
        said = area_remarks(raster.frame)
    except ZembrelError as exc:
        return _item(rule, FAULT, f"{exc.what}: check the CRS")
    return _item(rule, NOTE if said else GOOD, "; ".join(said) + ": check the CRS" if said else "it does")


def _halves(raster: Raster) -> RuleItem:
    """Edges half a cell off the lattice through zero are a sign of nodes that were taken for cells."""
    frame, rule = raster.frame, "values stand where the frame says"
    ends = (frame.affine.x0 / frame.cell[0], frame.affine.y0 / frame.cell[1])
    off = [abs(end - np.floor(end) - 0.5) < 1e-4 for end in ends]
    whole = [abs(end * size - round(end * size)) < 1e-9 for end, size in zip(ends, frame.cell, strict=True)]
    odd = frame.columns % 2 == 1 and frame.rows % 2 == 1
    if frame.registration == "cell" and all(off):
        why = "edges lie half a cell off whole multiples of the cell"
        return _item(
            rule, NOTE, f"{why}: if values stand on nodes, label --registration node, or label --shift"
        )
    degrees = frame.crs is not None and frame.crs.unit.kind == "angle"
    if frame.registration == "cell" and odd and degrees and all(whole) and frame.columns % 10 == 1:
        why = f"{frame.columns:,} columns between whole degrees"
        return _item(rule, NOTE, f"{why}: nodes taken for cells? label --registration node")
    return _item(rule, GOOD, "no sign of half a cell")


def _voids(raster: Raster, found: CellFindings, panes: int) -> RuleItem:
    rule, share = "cells are valid", found.valid / raster.frame.size
    if not found.valid:
        return _item(rule, FAULT, "no cell is: check nodata and the area")
    if share == 1:
        return _item(rule, GOOD, "all are")
    empty = f"; {len(found.empty):,} of {panes:,} squares of {SIDE} cells are empty" if found.empty else ""
    first = f", the first at {_at(raster, found.empty[0].top, found.empty[0].left)}" if found.empty else ""
    return _item(rule, GOOD, f"{100 * share:.4g} % are{empty}{first}")


def _seams(raster: Raster, found: CellFindings) -> RuleItem:
    quantum = 1.0 if raster.bands[0].dtype.kind in "iu" else 0.0
    rule, seams = "no seam runs through the values", found.seams(raster.frame.pane, quantum)
    if not seams:
        return _item(rule, GOOD, "none is seen")
    frame, said = raster.frame, []
    for seam in seams[:_SHOWN]:
        stop = min(seam.stop, frame.rows if seam.upright else frame.columns)
        ends = (
            ((seam.start, seam.line), (stop, seam.line))
            if seam.upright
            else ((seam.line, seam.start), (seam.line, stop))
        )
        said.append(
            f"{_at(raster, *ends[0])} to {_at(raster, *ends[1])} by {show_number(float(f'{seam.step:.3g}'))}"
        )
    lines = [seam.line for seam in seams]
    block = next(
        (size for size in (512, 256, 128) if len(lines) > 2 and all(line % size == 0 for line in lines)), None
    )
    why = f" (all at multiples of {block} cells: blocks of a tool before)" if block else ""
    more = f" and {len(seams) - _SHOWN} more" if len(seams) > _SHOWN else ""
    return _item(
        rule, FAULT, f"{'; '.join(said)}{more}{why}: mosaic --overlap feather or --match-tone joins sheets"
    )


def _leaks(raster: Raster, found: CellFindings) -> RuleItem:
    rule, apart = "no nodata value stands among the values", found.apart()
    if not apart:
        return _item(rule, GOOD, "none stands apart")
    end = apart[0]
    rest = found.high.value if end is found.low else found.low.value
    others = " to ".join(show_number(v) for v in sorted((end.following, rest)))
    value = f"{end.value:.17g}"
    where = _at(raster, end.place[0] + 0.5, end.place[1] + 0.5)
    said = f"{value} in {end.cells:,} cells, first at {where}, all others {others}"
    return _item(rule, FAULT, f"{said}: label --nodata {value}")


def _collar(raster: Raster, output: Output) -> RuleItem:
    rule, shade = "no collar of one colour lies around", shade_of(raster, None)
    collar = None if shade is None else find_collar(
        raster, shade, lambda look, panes: over_panes(raster, panes, look, output.limits))  # fmt: skip
    if collar is None or not collar.removed:
        return _item(rule, GOOD, "none is seen")
    assert shade is not None
    colour = "/".join(map(str, shade.colours[0].tolist()))
    return _item(
        rule, FAULT, f"{collar.removed:,} border cells of {colour}: mosaic --trim-collar takes them away"
    )


def check_legible(layer: Layer, source: Layer) -> RuleItem:
    """How much of their contrast the strongest edges of `source` keep in `layer`: text is made of them.

    Raises InputError where they do not meet.
    """
    frame = source.raster.frame
    side = min(_WINDOW, frame.rows, frame.columns)
    starts = [
        np.linspace(0, room - side, _ACROSS).astype(int).tolist() for room in (frame.rows, frame.columns)
    ]
    panes = {Pane(top, left, top + side, left + side) for top in starts[0] for left in starts[1]}
    kept, whole, worst = 0.0, 0.0, (np.inf, "")
    for pane in sorted(panes):
        view, _ = brought(layer, Target(frame.crop(pane)), "cubic")
        one, other = (_edges(raster, at) for raster, at in ((source.raster, pane), (view, view.frame.pane)))
        known = np.isfinite(one) & np.isfinite(other)
        if known.sum() < side:
            continue
        strong = known & (one >= np.percentile(one[known], _SHARP)) & (one > 0)
        if not strong.any():
            continue
        here, due = float(other[strong].sum()), float(one[strong].sum())
        kept, whole = kept + here, whole + due
        if here / due < worst[0]:
            worst = here / due, _at(source.raster, pane.top + side / 2, pane.left + side / 2)
    if not whole:
        raise InputError(
            f"{source.path} says nothing of {layer.path}",
            "they share no ground that has edges",
            "name its source",
        )
    share = kept / whole
    kept_of = f"edges keep {100 * min(share, 1):.3g} % of the contrast they have in {source.path.name}"
    said = f"{kept_of}, least at {worst[1]}"
    if share >= _LEGIBLE:
        return _item("text stays legible", GOOD, said)
    return _item("text stays legible", FAULT, f"{said}: keep smaller cells, or use --method cubic or lanczos")


def _edges(raster: Raster, pane: Pane) -> np.ndarray:
    """Sizes of gradients of the mean of all bands, NaN where something is void."""
    block = raster.cells(pane)
    known = np.logical_and.reduce([block.valid_of(band) for band in range(len(block.cells))])
    grey = np.where(known, block.cells.mean(axis=0, dtype=np.float64), np.nan)
    down, right = np.gradient(grey)
    return np.asarray(np.hypot(down, right))
