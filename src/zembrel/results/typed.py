"""The options of verbs by the names that people type, and from them the arguments of a verb's function.

A function takes options as fields of data classes, or as parameters, that have an `OptionText` beside their
type. Its record is in `zembrel.verbtable`.
"""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import typing
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any

from zembrel.errors import UsageError, nearest_name
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.jobs.signature import FLAG, NUMBER, TEXT, WHOLE, Option, Signature
from zembrel.optiontext import OptionText
from zembrel.verbtable import VERBS

GROUPS = (Inputs, Where, Output)


def function_named(path: str) -> Callable[..., Any]:
    """Return a function by its path: below `zembrel.verbs`, or from `zembrel.` on."""
    module, _, name = path.rpartition(".")
    found = importlib.import_module(module if module.startswith("zembrel.") else f"zembrel.verbs.{module}")
    function: Callable[..., Any] = getattr(found, name)
    return function


def function_of(verb: str) -> Callable[..., Any]:
    """Return the function of a verb."""
    return function_named(VERBS[verb].work)


@lru_cache
def options_of(verb: str) -> Mapping[str, Option]:
    """Return the options of a verb by the names that people type, `inputs` and `out` among them.

    What a function takes that is neither an option nor a group of options is a word.
    """
    without = VERBS[verb].without
    found: dict[str, Option] = {}
    function = function_of(verb)
    hints = _hints(function)
    for name, parameter in inspect.signature(function).parameters.items():
        usual = parameter.default if parameter.default is not inspect.Parameter.empty else None
        for option in _within(name, hints.get(name), (name,), usual):
            if not (hints.get(name) in GROUPS and option.path[-1] in without):
                found.setdefault(option.name, option)
    return found


@lru_cache
def words_of(verb: str) -> Sequence[inspect.Parameter]:
    """Return the parameters of a verb's function that are words: texts, the last one perhaps many."""
    hints = _hints(function_of(verb))
    parameters = inspect.signature(function_of(verb)).parameters
    return [parameters[name].replace(annotation=hint) for name, hint in hints.items() if _is_word(hint)]


def _is_word(hint: Any) -> bool:
    return hint in (str, str | None, tuple[str, ...])


def is_shared(verb: str, option: Option) -> bool:
    """Return whether an option is one of those that mean the same for every verb."""
    return _hints(function_of(verb))[option.path[0]] in GROUPS


@lru_cache
def typed_names(verb: str) -> Mapping[str, str]:
    """Return the name that people type for each field or parameter that is an option."""
    return {option.path[-1]: name for name, option in options_of(verb).items()}


@lru_cache
def signature_of(verb: str) -> Signature:
    """Return what a step of that verb may say."""
    options = {name: option for name, option in options_of(verb).items() if name not in ("dry_run", "resume")}
    record = VERBS[verb]
    return Signature(options, record.lazy, record.silent, record.revision)


def _within(name: str, hint: Any, path: tuple[str, ...], default: Any) -> Iterator[Option]:
    """Yield the option of a parameter or field, or those of the group that it is."""
    text = next((part for part in getattr(hint, "__metadata__", ()) if isinstance(part, OptionText)), None)
    if text is not None or _is_word(hint):
        kinds = str(hint.__origin__ if text is not None else hint)
        kind = next((said for word, said in _KINDS.items() if word in kinds), FLAG)
        typed = text.name_of(name) if text is not None else name
        yield Option(typed, kind, "tuple" in kinds or "Sequence" in kinds, path, text, default)
        return
    group = _group(hint)
    if group is None:
        return
    hints = _hints(group)
    for field in dataclasses.fields(group):
        of_field = (*path, field.name)
        usual = field.default if field.default is not dataclasses.MISSING else None
        if group is Inputs and field.name == "inputs":
            yield Option("inputs", TEXT, True, of_field, None, ())
        elif group not in GROUPS or hasattr(hints[field.name], "__metadata__"):
            yield from _within(field.name, hints[field.name], of_field, usual)


def _group(hint: Any) -> Any:
    """Return the group of options that a parameter or field is, if it is one."""
    kinds = (kind for kind in (hint, *typing.get_args(hint)) if isinstance(kind, type))
    return next((kind for kind in kinds if dataclasses.is_dataclass(kind)), None)


@lru_cache
def _hints(of: Any) -> dict[str, Any]:
    hints = typing.get_type_hints(of, include_extras=True)
    hints.pop("return", None)
    return hints


_KINDS = {"str": TEXT, "float": NUMBER, "int": WHOLE}


def arguments_of(verb: str, options: Mapping[str, Any], held: Mapping[str, Any]) -> dict[str, Any]:
    """Return the arguments of a verb's function.

    options: by name as they are typed. held: fields of `Inputs` and `Output` that nobody types. Raises
    UsageError for an option that the verb has not.
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
        if inner or _group(hints[name]) is not None:
            made[name] = _filled(hints[name], inner)
    return made


def _filled(hint: Any, leaves: Mapping[tuple[str, ...], Any]) -> Any:
    """Return the value of a parameter or field of which these leaves are given."""
    if () in leaves:
        return leaves[()]
    kind = _group(hint)
    hints = _hints(kind)
    heads = dict.fromkeys(path[0] for path in leaves)
    inner = {head: {path[1:]: v for path, v in leaves.items() if path[0] == head} for head in heads}
    return kind(**{head: _filled(hints[head], parts) for head, parts in inner.items()})
