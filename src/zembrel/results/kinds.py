"""The one way from a verb to the function that does its work for the kind of data that is given."""

from __future__ import annotations

import dataclasses
from typing import Any

from zembrel.errors import UsageError
from zembrel.inputs.intake import Given, take
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.results.receipt import Receipt
from zembrel.results.typed import function_named, typed_names
from zembrel.verbtable import VERBS
from zembrel.verbtable.record import RASTERS


def by_kind(verb: str, inputs: Inputs, where: Where, output: Output, options: Any = None) -> Receipt:
    """Find the inputs of `verb` and let the function for what they are do the work.

    Raises UsageError for an option that means nothing to data of that kind.
    """
    given = take(inputs, output, list(VERBS[verb].ways), stands=getattr(options, "resume", False))
    ways = VERBS[verb].ways
    way = ways[given.kind]
    for field in dataclasses.fields(options) if options is not None else ():
        if getattr(options, field.name) != _unsaid(field) and not way.heeds(field.name):
            flag = typed_names(verb)[field.name].replace("_", "-")
            others = [kind for kind, other in ways.items() if other.heeds(field.name)]
            raise UsageError(
                f"--{flag} is for {' and '.join(others)}", _what(given),
                "leave it out",
            )  # fmt: skip
    made: Receipt = function_named(way.function)(given, where, output, options)
    return made


def _what(given: Given) -> str:
    """What was given, in words."""
    first = given.paths[0]
    return f"{first} is a raster" if given.kind == RASTERS else f"{first} holds {given.kind}"


def _unsaid(field: Any) -> Any:
    """What an option is if nobody says it."""
    return field.default if field.default is not dataclasses.MISSING else field.default_factory()
