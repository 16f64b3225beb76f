"""Call the function of a verb for the kind of data in its inputs."""

from __future__ import annotations

import dataclasses
from typing import Any

from zembrel.errors import UsageError
from zembrel.inputs.intake import Given, take
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.results.receipt import Receipt
from zembrel.results.verboptions import function_named, typed_names
from zembrel.verbtable import VERBS
from zembrel.verbtable.record import RASTERS


def by_kind(verb: str, inputs: Inputs, where: Where, output: Output, options: Any = None) -> Receipt:
    """Find the inputs of `verb` and call the function for their kind.

    Raises UsageError for an option that does not apply to this kind of data.
    """
    handlers = VERBS[verb].handlers
    given = take(inputs, output, list(handlers), stands=getattr(options, "resume", False))
    handler = handlers[given.kind]
    for field in dataclasses.fields(options) if options is not None else ():
        if getattr(options, field.name) != _default(field) and not handler.uses(field.name):
            flag = typed_names(verb)[field.name].replace("_", "-")
            others = [kind for kind, other in handlers.items() if other.uses(field.name)]
            raise UsageError(f"--{flag} is for {' and '.join(others)}", _described(given), "leave it out")
    made: Receipt = function_named(handler.function)(given, where, output, options)
    return made


def _described(given: Given) -> str:
    first = given.paths[0]
    return f"{first} is a raster" if given.kind == RASTERS else f"{first} holds {given.kind}"


def _default(field: Any) -> Any:
    return field.default if field.default is not dataclasses.MISSING else field.default_factory()
