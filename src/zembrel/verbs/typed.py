"""The options of verbs by the names that people type, and from them the arguments of a verb's function.

A function takes groups of options as data classes; their fields, and its other parameters, are the options.
"""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import typing
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any

from zembrel.errors import UsageError, nearest_name
from zembrel.jobs.signature import FLAG, NUMBER, TEXT, WHOLE, Option, Signature
from zembrel.verbs.heeded import UNHEEDED
from zembrel.verbs.options import Inputs, Output, Where

# verb -> module and function
VERBS = {
    "describe": "describe.describe", "index": "index.index", "label": "label.label", "frame": "frame.frame",
    "pin": "pin.pin", "fetch": "fetch.fetch",
    "mosaic": "mosaic.mosaic", "stack": "stack.stack", "clip": "clip.clip",
    "tile": "tile.tile", "mask": "mask.mask", "fill": "fill.fill", "resample": "resample.resample",
    "reproject": "resample.reproject", "convert": "convert.convert", "thin": "points.thin.thin",
    "ground": "points.ground.ground", "grid": "points.grid.grid", "terrain": "terrain.terrain",
    "derive": "derive.derive", "classify": "classify.classify",
    "paint": "paint.paint",
    "rasterize": "rasterize.rasterize", "polygonize": "polygonize.polygonize", "contour": "contour.contour",
    "trace": "trace.trace", "centroids": "centroids.centroids", "sample": "sample.sample",
    "tally": "tally.tally", "compare": "compare.compare", "profile": "profile.profile",
    "check": "check.check", "draw": "draw.draw",
} | {
    f"deliver {pack}": f"deliver.{pack}.{pack}"
    for pack in ("pyramid", "globe", "chart", "heightmap", "hgt", "chips", "film", "carry")
}  # fmt: skip
# what only a job file calls so
OF_JOBS = {"standin device": "standin.device"}
# what runs others
ALONE = {"run": "jobs.run.run", "receipt": "receiptfile.receipt"}
# verbs whose results can go on as cells, without a file
LAZY = ("fetch", "mosaic", "stack", "clip", "mask", "fill", "resample", "reproject", "convert", "paint",
        "grid", "rasterize", "pin", "terrain", "derive", "classify")  # fmt: skip
# verbs that may make no file at all
SILENT = ("describe", "check", "compare", "profile", "frame", "standin device", "deliver carry")
# raised by one for a verb when its results for the same inputs and options become others; a test holds
# the checksums of results against it
REVISIONS: dict[str, int] = dict.fromkeys((*VERBS, *OF_JOBS), 1) | {
    "tally": 3,
    "ground": 2,
    "index": 2,
    "convert": 2,
    "classify": 2,
    "contour": 2,
    "terrain": 2,
    "derive": 2,
    "rasterize": 2,
    "compare": 2,
    "draw": 2,
    "deliver pyramid": 2,
    "deliver hgt": 3,
    "thin": 2,
    "deliver heightmap": 2,
    "deliver chips": 2,
}
GROUPS = (Inputs, Where, Output)
# fields whose typed names are words of the language
TYPED = {
    "condition": "where",
    "settings": "set",
    "rounded": "round",
    "way": "in",
    "span": "range",
    "start": "from",
}
# fields of groups that nobody types
HELD = (
    "rasters",
    "names",
    "known",
    "named",
    "crs_of_others",
    "command",
    "tick",
    "executor",
    "as_facts",
    "receiver",
    "started",
)


def function_of(verb: str) -> Callable[..., Any]:
    """The function of a verb."""
    module, _, name = f"zembrel.verbs.{(VERBS | OF_JOBS | ALONE)[verb]}".rpartition(".")
    function: Callable[..., Any] = getattr(importlib.import_module(module), name)
    return function


@lru_cache
def options_of(verb: str) -> Mapping[str, Option]:
    """The options of a verb by name, `inputs` and `out` among them."""
    unheeded = UNHEEDED[verb]
    found: dict[str, Option] = {}
    hints = typing.get_type_hints(function_of(verb))
    for name in inspect.signature(function_of(verb)).parameters:
        for option in _within(name, hints[name], (name,)):
            if not (hints[name] in GROUPS and option.path[-1] in unheeded):
                found.setdefault(option.name, option)
    return found


@lru_cache
def signature_of(verb: str) -> Signature:
    """What a step of that verb may say."""
    options = {name: option for name, option in options_of(verb).items() if name not in ("dry_run", "resume")}
    return Signature(options, verb in LAZY, verb in SILENT, REVISIONS[verb])


def _within(name: str, hint: Any, path: tuple[str, ...]) -> Iterator[Option]:
    """The option of a parameter or field, or those of the group that it is."""
    groups = [kind for kind in (hint, *typing.get_args(hint)) if dataclasses.is_dataclass(kind)]
    if not groups:
        kinds = str(hint)
        kind = next((said for word, said in _KINDS.items() if word in kinds), FLAG)
        yield Option(TYPED.get(name, name), kind, "tuple" in kinds or "Sequence" in kinds, path)
        return
    hints = typing.get_type_hints(groups[0])
    for field in dataclasses.fields(groups[0]):
        if groups[0] in GROUPS and field.name in HELD:
            continue
        yield from _within(field.name, hints[field.name], (*path, field.name))


@lru_cache
def _hints(of: Any) -> dict[str, Any]:
    return typing.get_type_hints(of)


_KINDS = {"str": TEXT, "float": NUMBER, "int": WHOLE}


def arguments_of(verb: str, options: Mapping[str, Any], held: Mapping[str, Any]) -> dict[str, Any]:
    """The arguments of a verb's function: options by name as they are typed; held: fields of `Inputs` and
    `Output` that nobody types.

    Raises UsageError for an option that the verb has not.
    """
    known = options_of(verb)
    leaves: dict[tuple[str, ...], Any] = {}
    for name, value in options.items():
        if name not in known:
            near = nearest_name(name, known)
            raise UsageError(f"{verb} has no option {name!r}", "it would do nothing", near)
        leaves[known[name].path] = tuple(value) if isinstance(value, list) else value
    hints = _hints(function_of(verb))
    made: dict[str, Any] = {}
    for name in inspect.signature(function_of(verb)).parameters:
        inner = {path[1:]: value for path, value in leaves.items() if path[0] == name}
        if hints[name] in GROUPS:
            fields = {field.name for field in dataclasses.fields(hints[name])}
            inner |= {(key,): value for key, value in held.items() if key in fields}
        if inner or dataclasses.is_dataclass(hints[name]):
            made[name] = _filled(hints[name], inner)
    return made


def _filled(hint: Any, leaves: Mapping[tuple[str, ...], Any]) -> Any:
    """The value of a parameter or field of which these leaves are given."""
    if () in leaves:
        return leaves[()]
    kind: Any = next(kind for kind in (hint, *typing.get_args(hint)) if dataclasses.is_dataclass(kind))
    hints = _hints(kind)
    heads = dict.fromkeys(path[0] for path in leaves)
    inner = {head: {path[1:]: v for path, v in leaves.items() if path[0] == head} for head in heads}
    return kind(**{head: _filled(hints[head], parts) for head, parts in inner.items()})
