"""Layers that formulas work on: `NAME=FILE[:BAND]`, and what names mean."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

from zembrel.errors import UsageError
from zembrel.expression.compiled import compiled
from zembrel.expression.formula import Formula
from zembrel.expression.operand import Operand, type_of
from zembrel.expression.registers import packed
from zembrel.expression.unitrules import UnlikeUnitsError, unit_of
from zembrel.facts import Fact, fact
from zembrel.inputs.finding import find
from zembrel.inputs.layers import Layer, open_layer
from zembrel.inputs.options import Inputs
from zembrel.inputs.target import Target, brought
from zembrel.raster.model import Band, Raster, has_alpha
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.derived import Derived, Source
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.receipt import Receipt
from zembrel.web.addresses import is_address

Lets = Sequence[str] | Mapping[str, str | os.PathLike[str] | Raster]
VALUE = "value"  # the first band of an input, by a name that always holds
_NAME = re.compile(r"[^\W\d]\w*")
_SHOWN = 12


class NamedLayer(NamedTuple):
    """A layer and the name that formulas know it by, empty for one whose bands are known by theirs."""

    name: str
    layer: Layer


class NamedFormula(NamedTuple):
    """The name of a band, and the formula that makes it."""

    name: str
    formula: Formula


@dataclass(frozen=True)
class Operands:
    """Layers on one frame, and which of their bands each name means."""

    rasters: tuple[Raster, ...]
    names: Mapping[str, tuple[int, int]]  # raster and band of it
    layers: tuple[NamedLayer, ...]

    @property
    def known(self) -> dict[str, Operand]:
        """What formulas are told of each name."""
        return {name: _operand(self.rasters[layer], band) for name, (layer, band) in self.names.items()}

    def sources(self, names: Iterable[str]) -> tuple[Source, ...]:
        """The layers that these names need, with the bands they need alone; the first if none does."""
        wanted: dict[int, dict[str, int]] = {}
        for name in names:
            layer, band = self.names[name]
            wanted.setdefault(layer, {})[name] = band
        made = []
        for layer, bands in (wanted or {0: {"": 0}}).items():
            picked = tuple(dict.fromkeys(bands.values()))
            held = {name: picked.index(band) for name, band in bands.items()}
            made.append(Source(select_bands(self.rasters[layer], picked), held))
        return tuple(made)

    def explain(self, name: str) -> UsageError | None:
        """The error for a name that is that of a layer of several bands."""
        held = next((layer for layer in self.layers if layer.name == name), None)
        if held is None:
            return None
        bands = [known for known in self.names if known.startswith(f"{name}.")][:_SHOWN]
        return UsageError(
            f"{name} is a layer of {len(held.layer.raster.bands)} bands", "a formula works on one of them",
            f"write one of {', '.join(bands)}",
        )  # fmt: skip


def _operand(raster: Raster, number: int) -> Operand:
    band = raster.bands[number]
    codes = {entry.name: entry.code for entry in band.legend.entries if entry.name} if band.legend else {}
    return Operand(band.type, band.unit, codes)


def opened_lets(lets: Lets, inputs: Inputs) -> list[NamedLayer]:
    """The layers of `NAME=FILE` or `NAME=FILE:BAND`, in order. Raises UsageError or InputError."""
    made: list[NamedLayer] = []
    for name, given in _parted(lets):
        if not _NAME.fullmatch(name):
            raise UsageError(f"--let {name}=...", f"{name!r} is no name", "write letters, digits and _")
        if any(held.name == name for held in made):
            raise UsageError(f"--let {name} is given twice", "a name means one layer", "choose another name")
        if isinstance(given, Raster):
            made.append(NamedLayer(name, Layer(Path(f"{name}.tif"), given)))
            continue
        file, band = _file_and_band(os.fspath(given))
        options = replace(inputs, inputs=(file,), rasters=(), inputs_from=None, bands=band)
        found = find(options)
        if len(found) != 1:
            raise UsageError(
                f"--let {name}={given} means {len(found)} files", "a name means one layer", "name one file"
            )
        made.append(NamedLayer(name, open_layer(found[0], options)))
    return made


def _parted(lets: Lets) -> list[tuple[str, str | os.PathLike[str] | Raster]]:
    if isinstance(lets, Mapping):
        return list(lets.items())
    parted = []
    for text in lets:
        name, equals, file = text.partition("=")
        if not equals or not file:
            raise UsageError(
                f"--let {text}", "NAME=FILE or NAME=FILE:BAND is needed", "write --let s=scene.tif"
            )
        parted.append((name.strip(), file))
    return [*parted]


def _file_and_band(text: str) -> tuple[str, str | None]:
    """A file, and the band that follows it after a colon if what stands there is no file as a whole."""
    file, colon, band = text.rpartition(":")
    if not colon or Path(text).exists() or (is_address(text) and "/" in band):
        return text, None
    return file, band


def with_lets(receipt: Receipt, lets: Sequence[NamedLayer]) -> Receipt:
    """The receipt with named layers among the inputs."""
    paths = [held.layer.path for held in lets]
    read, touched = (tuple(dict.fromkeys((*of, *paths))) for of in (receipt.inputs, receipt.touched))
    return replace(receipt, inputs=read, touched=touched)


def brought_together(
    layers: Sequence[NamedLayer], target: Target, method: str
) -> tuple[Operands, list[Fact]]:
    """The layers on the target's frame, names for all of their bands, and what was chosen for that."""
    rasters, chose, names = [], list[Fact](), dict[str, tuple[int, int]]()
    for number, (name, layer) in enumerate(layers):
        view, said = brought(layer, target, method)
        moved = layer.raster.frame.offset_to(target.frame) is None
        chose += [item._replace(about=name or layer.path.name) for item in said] if moved else []
        rasters.append(unscaled(view))
        for word, band in _words(name, rasters[-1]).items():
            names.setdefault(word, (number, band))
    return Operands(tuple(rasters), names, tuple(layers)), chose


def _words(name: str, raster: Raster) -> dict[str, int]:
    """What bands are called: by name, also as a plain word, by number, and by colour."""
    bands = raster.bands[:-1] if has_alpha(raster.bands) else raster.bands
    words: dict[str, int] = {}
    if not name:
        words[VALUE] = 0
    elif len(bands) == 1:
        words[name] = 0
    lead = f"{name}." if name else ""
    for number, band in enumerate(bands):
        words.setdefault(lead + (re.sub(r"\W+", "_", band.name) if name else band.name), number)
    for number, band in enumerate(bands):
        own = re.sub(r"\W+", "_", band.name)
        for word in (own, own.lower(), band.colour, band.name, str(number + 1) if name else ""):
            if word:
                words.setdefault(lead + word, number)
    return words


def computed(operands: Operands, results: Sequence[NamedFormula]) -> tuple[Derived, list[Fact]]:
    """The view that computes all results, a band each, and a word on units that do not go together.

    Raises UsageError for names and words that mean nothing.
    """
    known, chose = operands.known, list[Fact]()
    for name in (name for result in results for name in result.formula.names if name not in known):
        explained = operands.explain(name)
        if explained is not None:
            raise explained
    program = packed(compiled([result.formula for result in results], known))
    bands, chose = [], [*chose, *([fact("wide_rounded")] if program.rounds else [])]
    for name, formula in results:
        unit, said = _unit(formula, {name: operand.unit for name, operand in known.items()})
        bands.append(Band(name, type_of(formula, known), unit=unit))
        chose += said
    return Derived(operands.sources(program.reads), program, tuple(bands)), chose


def _unit(formula: Formula, units: dict[str, str]) -> tuple[str, list[Fact]]:
    try:
        return unit_of(formula.tree, units), []
    except UnlikeUnitsError as exc:
        said = fact(
            "units_as_they_are", one=exc.one, other=exc.other, character=exc.at + 1, formula=formula.text
        )
        return "", [said]
