"""The options of verbs by name, and the arguments that a verb's function gets from them.

Options are fields of data classes, or parameters, with an `OptionText` in their annotation. Other texts are
positional arguments.
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
_KINDS = {str: TEXT, float: NUMBER, int: WHOLE, bool: FLAG}
_REQUIRED = inspect.Parameter.empty


def function_named(path: str) -> Callable[..., Any]:
    """Return a function by its path: below `zembrel.verbs`, or from `zembrel.` on."""
    module, _, name = path.rpartition(".")
    found = importlib.import_module(module if module.startswith("zembrel.") else f"zembrel.verbs.{module}")
    function: Callable[..., Any] = getattr(found, name)
    return function


def function_of(verb: str) -> Callable[..., Any]:
    """Return the function of a verb."""
    return function_named(VERBS[verb].function)


@lru_cache
def options_of(verb: str) -> Mapping[str, Option]:
    """Return the options of a verb by name, with `inputs`, `out` and positional arguments."""
    ignored = VERBS[verb].ignored_options
    function = function_of(verb)
    hints = _hints(function)
    found: dict[str, Option] = {}
    for name, parameter in inspect.signature(function).parameters.items():
        default = None if parameter.default is _REQUIRED else parameter.default
        for option in _within(name, hints[name], (name,), default):
            if not (hints[name] in GROUPS and option.path[-1] in ignored):
                found.setdefault(option.name, option)
    return found


@lru_cache
def positionals_of(verb: str) -> Sequence[inspect.Parameter]:
    """Return the positional arguments of a verb; the last one may take several words."""
    hints = _hints(function_of(verb))
    parameters = inspect.signature(function_of(verb)).parameters
    return [parameters[name].replace(annotation=hint) for name, hint in hints.items() if _is_text(hint)]


def required_of(verb: str) -> Sequence[str]:
    """Return the names of positional arguments without a default."""
    return [parameter.name for parameter in positionals_of(verb) if parameter.default is _REQUIRED]


def _is_text(hint: Any) -> bool:
    return hint in (str, str | None, tuple[str, ...])


def is_shared(verb: str, option: Option) -> bool:
    """Return True for an option that has the same meaning for every verb."""
    return _hints(function_of(verb))[option.path[0]] in GROUPS


@lru_cache
def shared_names() -> frozenset[str]:
    """Return the names of the options that have the same meaning for every verb."""
    return frozenset(option.name for group in GROUPS for option in _within("", group, (), None))


@lru_cache
def typed_names(verb: str) -> Mapping[str, str]:
    """Return the name of the option for each field or parameter that holds one."""
    return {option.path[-1]: name for name, option in options_of(verb).items()}


@lru_cache
def signature_of(verb: str) -> Signature:
    """Return the options of a step with this verb."""
    options = {name: option for name, option in options_of(verb).items() if name not in ("dry_run", "resume")}
    record = VERBS[verb]
    return Signature(options, record.lazy, record.silent, record.revision, tuple(required_of(verb)))


def _within(name: str, hint: Any, path: tuple[str, ...], default: Any) -> Iterator[Option]:
    """Yield the option in a field or parameter, or all options in a group of them."""
    text = next((part for part in getattr(hint, "__metadata__", ()) if isinstance(part, OptionText)), None)
    if text is not None:
        yield Option(text.name(name), *_kind(hint.__origin__), path, text, default)
    elif _is_text(hint):
        yield Option(name, *_kind(hint), path, None, default)
    elif (group := _group(hint)) is not None:
        hints = _hints(group)
        for field in dataclasses.fields(group):
            if group not in GROUPS or field.name == "inputs" or hasattr(hints[field.name], "__metadata__"):
                usual = field.default if field.default is not dataclasses.MISSING else None
                yield from _within(field.name, hints[field.name], (*path, field.name), usual)


def _kind(hint: Any) -> tuple[str, bool]:
    """Return the kind of an option's values, and whether it takes several. Raises LookupError."""
    parts = {hint, *typing.get_args(hint)} - {type(None), ...}
    many = any(typing.get_origin(part) in (tuple, Sequence) for part in parts)
    parts |= {inner for part in parts for inner in typing.get_args(part)}
    (kind,) = {_KINDS[part] for part in parts if part in _KINDS}
    return kind, many


def _group(hint: Any) -> Any:
    """Return the data class of options in an annotation; None for other types."""
    kinds = (kind for kind in (hint, *typing.get_args(hint)) if isinstance(kind, type))
    return next((kind for kind in kinds if dataclasses.is_dataclass(kind)), None)


@lru_cache
def _hints(of: Any) -> dict[str, Any]:
    hints = typing.get_type_hints(of, include_extras=True)
    hints.pop("return", None)
    return hints


def arguments_of(verb: str, options: Mapping[str, Any], held: Mapping[str, Any]) -> dict[str, Any]:
    """Return the arguments of a verb's function.

    options: values by name. held: fields of `Inputs` and `Output` that are no options. Raises UsageError for
    an unknown option, or a missing positional argument.
    """
    known = options_of(verb)
    leaves: dict[tuple[str, ...], Any] = {}
    for name, value in options.items():
        if name not in known:
            near = nearest_name(name, known)
            raise UsageError(f"{verb} has no option {name!r}", "it would do nothing", near)
        leaves[known[name].path] = tuple(value) if isinstance(value, list) else value
    missing = next((name for name in required_of(verb) if (name,) not in leaves), None)
    if missing is not None:
        record = VERBS[verb]
        what = f"{verb} needs {' '.join(record.arguments)}"
        raise UsageError(what, f"there is no {missing}", f"write {record.example}")
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
    """Return the value of a parameter or field; leaves: values by their path in it."""
    if () in leaves:
        return leaves[()]
    kind = _group(hint)
    hints = _hints(kind)
    heads = dict.fromkeys(path[0] for path in leaves)
    inner = {head: {path[1:]: v for path, v in leaves.items() if path[0] == head} for head in heads}
    return kind(**{head: _filled(hints[head], parts) for head, parts in inner.items()})
