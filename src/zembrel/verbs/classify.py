"""classify: values, codes or conditions to classes with a legend."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zembrel.algebra import classing as ways
from zembrel.algebra import classrules
from zembrel.algebra.classing import Classing, Made
from zembrel.algebra.codetable import read_code_table
from zembrel.algebra.operands import NamedLayer, brought_together, opened_lets, with_lets
from zembrel.errors import InputError, UsageError
from zembrel.facts import Fact
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer, one_band
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import decide, masked
from zembrel.passes.sieving import check_least, sieved_codes, strips_of
from zembrel.raster.model import Raster, is_photo
from zembrel.raster.views.classed import WithCodes
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write
from zembrel.scratch import Scratch


def classify(inputs: Inputs, where: Where, output: Output, classing: Classing) -> Receipt:
    """Each input as codes of classes; with rules, layers by name take part in conditions.

    Raises UsageError for no way to classes or several, InputError for cells that have none.
    """
    classing.check()
    check_least(classing.min_cells)
    rules = classrules.parse_rules(classing.rule, classing.otherwise) if classing.rule else []
    edges = ways.parse_breaks(classing.breaks) if classing.breaks else []
    table = read_code_table(Path(classing.codes)) if classing.codes else []
    lets = opened_lets(classing.let, inputs)
    given = inputs.inputs or inputs.inputs_from or inputs.rasters
    if not given and not lets:
        raise UsageError("there is nothing to classify", "classes are made of layers", "name an input")
    layers, unopened = opened(take(inputs, output), output) if given else ([lets[0].layer], [])
    if classing.classes:
        edges = ways.found_breaks([_values(layer) for layer in layers], classing.classes, output.limits)
    checks: list[Fact] = ways.fewer_classes(classing, edges)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        target = decide([layer], where)
        if rules:
            named = [NamedLayer("", layer), *lets] if given else lets
            operands, chose = brought_together(named, target, classing.method)
            made = classrules.ruled(operands, rules, classing)
        else:
            held = replace(layer, raster=_values(layer))
            operands, chose = brought_together([NamedLayer("", held)], target, classing.method)
            made = _of_values(operands.rasters[0])
        view, said = _settled(made.view, classing, output)
        checks.extend(made.checks)
        cover = target.cover() if where.mask else None
        written = write(masked(view, cover), final, output, cover=cover)
        return written, [*target.chose, *chose, *made.chose, *said]

    def _of_values(raster: Raster) -> Made:
        if table:
            return ways.recoded(raster, table, classing, output.limits)
        return ways.binned(raster, edges, classing) if edges else ways.thresholded(raster, classing)

    receipt = one_to_one("classify", layers, output, make, unopened)
    return with_lets(replace(receipt, checks=(*dict.fromkeys(checks), *receipt.checks)), lets)


def _values(layer: Layer) -> Raster:
    """The one band that is classified. Raises UsageError for several, InputError for colours."""
    if is_photo(layer.raster.bands):
        raise InputError(f"{layer.path} holds colours", "they have no order", "derive an index of them first")
    return unscaled(one_band(layer, "one of them is classified"))


def _settled(view: Raster, classing: Classing, output: Output) -> tuple[Raster, list[Fact]]:
    """`view` without its small regions, which are found before anything is written."""
    if classing.min_cells < 2 or output.dry_run:
        return view, []
    frame, band = view.frame, view.bands[0]
    codes = Scratch().array("codes", band.dtype, (frame.rows, frame.columns))
    parts, said = sieved_codes(view, classing.min_cells, classing.diagonal, output.limits)
    for pane, (cells, _) in zip(strips_of(frame), parts, strict=True):
        codes.values[pane.within(frame.pane)] = cells
    return WithCodes(view, band, codes), said
