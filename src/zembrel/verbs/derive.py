"""derive: plain algebra over named layers and their bands."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, NamedTuple

from zembrel.algebra.indices import SpectralIndex, band_of, indices
from zembrel.algebra.operands import (
    Lets,
    NamedFormula,
    NamedLayer,
    Operands,
    brought_together,
    computed,
    opened_lets,
    with_lets,
)
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.expression.formula import parse_formula
from zembrel.facts import Fact, distinct, fact
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import decide, masked
from zembrel.optiontext import OptionText
from zembrel.raster.model import Raster
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write

_NAMED = re.compile(r"\s*([^\W\d]\w*)\s*=(?!=)(.+)", re.DOTALL)


@dataclass(frozen=True)
class Algebra:
    """What to compute: layers by name, formulas, and indices of the literature.

    let: `NAME=FILE[:BAND]`, or from Python a mapping of names to paths and rasters; formula: each may begin
    with the name of its band, `NAME=`; indices: files that add to the table of indices.
    """

    let: Annotated[Lets, OptionText("Name a layer for use in formulas. Repeatable.", "NAME=FILE[:BAND]")] = ()
    formula: Annotated[
        str | Sequence[str],
        OptionText('Formula, e.g. "(s.nir - s.red) / (s.nir + s.red)". Repeatable.', "[NAME=]TEXT"),
    ] = ()
    index: Annotated[
        str | Sequence[str], OptionText("Published index: ndvi, ndwi, nbr ... Repeatable.", "NAME")
    ] = ()
    indices: Annotated[
        str | Sequence[str], OptionText("File with more indices (see docs/derive.md).", "FILE")
    ] = ()
    method: Annotated[
        str, OptionText("Resampling method for layers that are not on the frame of the first.", "NAME")
    ] = "auto"


class Wanted(NamedTuple):
    """A formula as it was typed, or an index by its name."""

    text: str
    known: SpectralIndex | None = None


def derive(inputs: Inputs, where: Where, output: Output, algebra: Algebra) -> Receipt:
    """The results of formulas over named layers, a band each, made in one pass on the frame of the first.

    With inputs each of them has a result of its own, in whose formulas its bands go by their names. Raises
    UsageError for what a formula cannot mean, InputError for layers that have nothing to do with each other.
    """
    wanted = _wanted(algebra)
    lets = opened_lets(algebra.let, inputs)
    given = inputs.inputs or inputs.inputs_from or inputs.rasters
    if not given and not lets:
        raise UsageError("there is nothing to compute with", "formulas work on layers", "add --let s=FILE")
    layers, unopened = opened(take(inputs, output), output) if given else ([lets[0].layer], [])

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        target = decide([layer], where)
        named = [NamedLayer("", layer), *lets] if given else lets
        operands, chose = brought_together(named, target, algebra.method)
        view, said = _derived(operands, wanted)
        cover = target.cover() if where.mask else None
        return write(masked(view, cover), final, output, cover=cover), [*target.chose, *chose, *said]

    return with_lets(one_to_one("derive", layers, output, make, unopened), lets)


def _wanted(algebra: Algebra) -> list[Wanted]:
    """Formulas, then indices, in their order. Raises UsageError for an unknown index."""
    made = [Wanted(text) for text in _several(algebra.formula)]
    names = _several(algebra.index)
    if names:
        held = indices([Path(name) for name in _several(algebra.indices)])
        for name in names:
            if name.lower() not in held:
                raise UsageError(
                    f"--index {name}", "there is no such index", nearest_name(name.lower(), held)
                )
            made.append(Wanted(name, held[name.lower()]))
    if not made:
        raise UsageError(
            "there is nothing to compute", "derive makes what formulas say", "add --formula or --index"
        )
    return made


def _several(given: str | Sequence[str]) -> list[str]:
    return [given] if isinstance(given, str) else list(given)


def _derived(operands: Operands, wanted: Sequence[Wanted]) -> tuple[Raster, list[Fact]]:
    """The view that computes all results, and what was chosen for it."""
    results: list[NamedFormula] = []
    chose: list[Fact] = []
    for number, one in enumerate(wanted):
        if one.known is not None:
            operands, said = _with_roles(operands, one.known)
            chose += said
            result = NamedFormula(one.known.name, one.known.formula)
        else:
            result = _formula(one.text, operands, f"formula_{number + 1}" if len(wanted) > 1 else "formula")
        if any(result.name == other.name for other in results):
            raise UsageError(
                f"two results are called {result.name!r}", "each is a band", 'name them: --formula b="..."'
            )
        results.append(result)
    view, said = computed(operands, results)
    return view, [*chose, *said]


def _formula(text: str, operands: Operands, otherwise: str) -> NamedFormula:
    """The formula in `text`, and the name that it begins with unless that is the name of a layer."""
    found = _NAMED.fullmatch(text)
    if found and found[1] not in operands.names:
        return NamedFormula(found[1], parse_formula(found[2]))
    return NamedFormula(otherwise, parse_formula(text))


def _with_roles(operands: Operands, index: SpectralIndex) -> tuple[Operands, list[Fact]]:
    """Operands among which the bands that an index needs go by the names it has for them.

    Raises InputError for a band that is not found.
    """
    names, found, chose = dict(operands.names), list[str](), list[Fact]()
    for role in index.formula.names:
        if role not in operands.names:
            names[role] = _played(role, operands, index)
        layer, band = names[role]
        held, raster = operands.layers[layer], operands.rasters[layer]
        found.append(f"{role} {held.name or held.layer.path.name}:{raster.bands[band].name}")
        own = held.layer.raster.bands[band]
        if index.reflectance and own.dtype.kind in "iu" and own.scale == 1.0:
            chose.append(
                fact("reflectance_needed", index=index.name, layer=held.layer.path.name, type=own.type)
            )
    return replace(operands, names=names), [
        fact("index_bands", index=index.name, bands=tuple(found), source=index.source),
        *distinct(chose),
    ]


def _played(role: str, operands: Operands, index: SpectralIndex) -> tuple[int, int]:
    for number, raster in enumerate(operands.rasters):
        band = band_of(role, raster.bands)
        if band is not None:
            return number, band
    held = [band.name for raster in operands.rasters for band in raster.bands][:12]
    raise InputError(
        f"--index {index.name} needs a band {role}",
        f"no name or wavelength says so; there are {', '.join(held)}",
        f"say which it is: --let {role}=FILE:BAND",
    )  # fmt: skip
