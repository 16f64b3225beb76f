"""What the command line refuses before anything starts, in plain sentences."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from zembrel.errors import UsageError, nearest_name
from zembrel.verbtable import VERBS

# verbs whose name says best what an option of several does
_FIRST = (
    "clip",
    "resample",
    "reproject",
    "convert",
    "mosaic",
    "tile",
    "describe",
    "draw",
    "tally",
    "grid",
    "thin",
)


def check(parameters: Sequence[Any], arguments: Sequence[str]) -> None:
    """Raise UsageError for an option given twice, a value glued to a short flag, or a missing value."""
    flags = {flag: p for p in parameters for flag in (*p.opts, *p.secondary_opts) if flag.startswith("-")}
    seen: set[str] = set()
    rest = iter(range(len(arguments)))
    for at in rest:
        word = arguments[at]
        if word == "--":
            return
        flag = word.partition("=")[0] if word.startswith("--") else word
        parameter = flags.get(flag)
        if parameter is None:
            _refuse_glued(word, flags)
            continue
        if parameter.name in seen and not parameter.multiple:
            raise UsageError(f"{flag} is given twice", "only one value can count", "keep one of the two")
        seen.add(parameter.name)
        if parameter.is_flag or "=" in word:
            continue
        follower = arguments[at + 1] if at + 1 < len(arguments) else None
        if follower is None or follower in flags or follower.partition("=")[0] in flags:
            where = f"it is followed by {follower}" if follower else "it stands at the end"
            raise UsageError(f"{flag} has no value", where, f"write {flag} VALUE")
        next(rest)


def check_words(arguments: Sequence[str]) -> None:
    """Raise UsageError for a word that no path and no value can be."""
    odd = next((word for word in arguments if "\0" in word), None)
    if odd is not None:
        raise UsageError(f"{odd!r} holds a NUL", "no name of a file has one", "leave it out")


def numbers_last(arguments: Sequence[str]) -> list[str]:
    """`arguments` with areas that begin with a minus sign where they cannot be taken for options."""
    if "--" in arguments:
        return list(arguments)
    areas = [word for word in arguments if re.match(r"-\d[\d.]*,", word)]
    return [word for word in arguments if word not in areas] + (["--", *areas] if areas else [])


def _refuse_glued(word: str, flags: dict[str, Any]) -> None:
    if len(word) > 2 and word[0] == "-" and word[1] not in "-.0123456789":
        short = flags.get(word[:2])
        if short is not None and not short.is_flag:
            raise UsageError(
                f"{word} glues a value to {word[:2]}",
                "a slip of the finger would go unseen",
                f"write {word[:2]} {word[2:].lstrip('=')}",
            )


def _owner(flag: str) -> str | None:
    """The verb whose task an option is, or one that has it; None for an option of no verb."""
    found = [verb for verb in VERBS if flag in _flags(verb)]
    return next((verb for verb in _FIRST if verb in found), found[0] if found else None)


def _flags(verb: str) -> set[str]:
    from zembrel.cli.command import command_of

    parameters = command_of(verb).params
    return {flag for parameter in parameters for flag in (*parameter.opts, *parameter.secondary_opts)}


def as_usage_error(error: Any) -> UsageError:
    """What the command-line package objects to, in our three sentences."""
    message = error.format_message().strip().rstrip(".")
    context = getattr(error, "ctx", None)
    flag, verb = str(getattr(error, "option_name", "")), getattr(context, "info_name", "")
    if flag and verb in VERBS:
        owner = _owner(flag)
        if owner is not None:
            why = f"it belongs to zembrel {owner}: {VERBS[owner].summary}"
            return UsageError(f"{verb} has no option {flag}", why, f"use zembrel {owner}")
        near = nearest_name(flag, sorted(_flags(verb)))
        return UsageError(f"there is no option {flag}", f"zembrel {verb} --help lists those of {verb}", near)
    path = context.command_path if context is not None else "zembrel"
    return UsageError(
        message[:1].lower() + message[1:], "the command line cannot be read so", f"see {path} --help"
    )
