"""What does a verb's work, for which kind of data: the one table, and the one way through it."""

from __future__ import annotations

import dataclasses
import importlib
from typing import Any, NamedTuple

from zembrel.errors import UsageError
from zembrel.verbs.intake import FEATURES, POINTS, RASTERS, Given, take
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Receipt


class Handler(NamedTuple):
    """The function that does the work, and which of the verb's own options mean something to it."""

    function: str
    options: str = ""

    def heeds(self, option: str) -> bool:
        return self.options == _EVERY or option in self.options.split()


_EVERY = "*"
# each function takes (given, where, output, the verb's own options)
HANDLERS: dict[tuple[str, str], Handler] = {
    ("describe", RASTERS): Handler("describe.of_rasters", _EVERY),
    ("describe", FEATURES): Handler("features.facts.describe", "stats at"),
    ("describe", POINTS): Handler("points.facts.describe", "stats"),
    ("index", RASTERS): Handler("index.of_rasters"),
    ("index", POINTS): Handler("points.index.index"),
    ("mosaic", RASTERS): Handler("mosaic.of_rasters", "overlap method match_tone order table"),
    ("mosaic", FEATURES): Handler("features.change.mosaic"),
    ("mosaic", POINTS): Handler("points.mosaic.mosaic", "source_ids"),
    ("clip", RASTERS): Handler("clip.of_rasters", "touching outside feather method"),
    ("clip", FEATURES): Handler("features.change.clip", "touching outside"),
    ("clip", POINTS): Handler("points.change.clip", "outside keep_bounds"),
    ("tile", RASTERS): Handler("tile.of_rasters", _EVERY),
    ("tile", POINTS): Handler("points.tile.tile", "split size at_most by margin name index resume"),
    ("reproject", RASTERS): Handler("resample.reproject_rasters", "method"),
    ("reproject", FEATURES): Handler("features.change.reproject"),
    ("reproject", POINTS): Handler("points.change.reproject"),
    ("convert", RASTERS): Handler(
        "convert.of_rasters",
        "stretch rgb palette dither scaled unscaled z_unit from_z_unit each_band",
    ),
    ("convert", FEATURES): Handler("features.change.convert"),
    ("convert", POINTS): Handler("points.change.convert", "resume"),
}
_FLAGS = {
    "span": "range",
    "way": "in",
}  # options that are typed by another name than they have


def kinds_of(verb: str) -> list[str]:
    """The kinds of data that a verb takes."""
    return [kind for name, kind in HANDLERS if name == verb]


def by_kind(verb: str, inputs: Inputs, where: Where, output: Output, options: Any = None) -> Receipt:
    """Find the inputs of `verb` and let the function for what they are do the work.

    Raises UsageError for an option that means nothing to data of that kind.
    """
    given = take(inputs, output, kinds_of(verb), stands=getattr(options, "resume", False))
    way = HANDLERS[verb, given.kind]
    for field in dataclasses.fields(options) if options is not None else ():
        if getattr(options, field.name) != _unsaid(field) and not way.heeds(field.name):
            flag = _FLAGS.get(field.name, field.name.replace("_", "-"))
            others = [kind for kind in kinds_of(verb) if HANDLERS[verb, kind].heeds(field.name)]
            raise UsageError(
                f"--{flag} is for {' and '.join(others)}", _what(given),
                "leave it out",
            )  # fmt: skip
    module, _, name = way.function.rpartition(".")
    function = getattr(importlib.import_module(f"zembrel.verbs.{module}"), name)
    made: Receipt = function(given, where, output, options)
    return made


def _what(given: Given) -> str:
    """What was given, in words."""
    first = given.paths[0]
    return f"{first} is a raster" if given.kind == RASTERS else f"{first} holds {given.kind}"


def _unsaid(field: Any) -> Any:
    """What an option is if nobody says it."""
    return field.default if field.default is not dataclasses.MISSING else field.default_factory()
