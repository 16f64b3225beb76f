"""Variables of a job: those of `[set]`, and those of `[matrix]`, for each value of which steps are made."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product
from math import prod
from pathlib import Path
from typing import Any

from zembrel.errors import UsageError, nearest_name
from zembrel.jobs.mistakes import Spot
from zembrel.jobs.patterns import matching

_VARIABLE = re.compile(r"\$(?:(\$)|\{([^}]*)\}|([A-Za-z_][A-Za-z0-9_]*)|(.?))")
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_OF_FILE = "_name"  # `$sheet_name` is the name of the file `$sheet`, without folder and ending
_PLAIN = (str, int, float, bool)
MOST_CHARACTERS = 65_536  # of a text with its variables filled in


def mentioned(value: Any) -> Iterator[str]:
    """The names of the variables in a value of a job file, in lists and tables too."""
    if isinstance(value, str):
        for found in _VARIABLE.finditer(value):
            if found[2] or found[3]:
                yield found[2] or found[3]
    elif isinstance(value, list | tuple):
        for inner in value:
            yield from mentioned(inner)
    elif isinstance(value, Mapping):
        yield from mentioned(list(value.values()))


def filled(value: Any, known: Mapping[str, Any], spot: Spot) -> Any:
    """`value` with its variables filled in; a text that is one variable alone becomes what that is.

    Raises InputError for a variable that is not there.
    """
    if isinstance(value, list | tuple):
        return [filled(inner, known, spot) for inner in value]
    if isinstance(value, Mapping):
        return {key: filled(inner, known, spot) for key, inner in value.items()}
    if not isinstance(value, str) or "$" not in value:
        return value
    whole = _VARIABLE.fullmatch(value)
    if whole is not None and not whole[1]:
        return _value(whole, known, spot)
    texts = [_as_text(_value(found, known, spot)) for found in _VARIABLE.finditer(value)]
    if len(value) + sum(map(len, texts)) > MOST_CHARACTERS:
        what = f"{spot.key} has more than {MOST_CHARACTERS:,} characters"
        raise spot.mistake(what, "its variables hold long texts", "write shorter ones")
    rest = iter(texts)
    return _VARIABLE.sub(lambda _: next(rest), value)


def _value(found: re.Match[str], known: Mapping[str, Any], spot: Spot) -> Any:
    if found[1]:
        return "$"
    name = found[2] if found[2] is not None else found[3]
    if not name or not _NAME.fullmatch(name):
        what = f"{found[0]!r} is no variable"
        raise spot.mistake(
            what, "a name follows the sign", "write $name or ${name}, and $$ for the sign alone"
        )
    if name not in known:
        why = "neither [set] nor [matrix] has it"
        near = nearest_name(name, known) if known else "add it to [set]"
        raise spot.mistake(f"there is no variable ${name}", why, near)
    return known[name]


def _as_text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


@dataclass(frozen=True)
class Variables:
    """The values of `[set]`, and for each variable of the matrix its values and their labels."""

    values: Mapping[str, Any] = field(default_factory=dict)
    matrix: Mapping[str, Sequence[tuple[str, Any]]] = field(default_factory=dict)
    of_files: frozenset[str] = frozenset()

    @property
    def names(self) -> list[str]:
        """All that may be mentioned."""
        return [*self.values, *self.matrix, *(name + _OF_FILE for name in self.of_files)]

    def spread(self, names: set[str]) -> list[str]:
        """Those of the matrix among `names`, in their order in the file."""
        own = {name.removesuffix(_OF_FILE) if name not in self.matrix else name for name in names}
        return [name for name in self.matrix if name in own]

    def count(self, names: Sequence[str]) -> int:
        """Return how many combinations the variables of the matrix have."""
        return prod(len(self.matrix[name]) for name in names)

    def products(self, names: Sequence[str]) -> Iterator[tuple[dict[str, str], dict[str, Any]]]:
        """Labels and values for each combination of variables of the matrix."""
        for chosen in product(*(self.matrix[name] for name in names)):
            labels = {name: label for name, (label, _) in zip(names, chosen, strict=True)}
            values = {name: value for name, (_, value) in zip(names, chosen, strict=True)}
            more = {name + _OF_FILE: labels[name] for name in names if name in self.of_files}
            yield labels, dict(self.values) | values | more


def read_variables(table: Mapping[str, Any], spot: Spot, folder: Path, asked: Mapping[str, str]) -> Variables:
    """The variables of a job file; asked: values that take the place of those of `[set]`.

    folder: that patterns are seen from. Raises InputError, UsageError for a name asked for in vain.
    """
    values = _set_values(table.get("set", {}), spot._replace(table="set"), asked)
    place = spot._replace(table="matrix")
    matrix: dict[str, Sequence[tuple[str, Any]]] = {}
    of_files = set()
    for name, given in _checked(table.get("matrix", {}), place).items():
        here = place.at(name)
        if name in values:
            raise here.mistake(
                f"${name} is in [set] too", "only one value can count", "rename one of the two"
            )
        given = filled(given, values, here)
        if isinstance(given, str):
            of_files.add(name)
        matrix[name] = _labelled(given, here, folder)
    return Variables(values, matrix, frozenset(of_files))


def _checked(table: Any, spot: Spot) -> Mapping[str, Any]:
    """A table of variables. Raises InputError for what is none, or has a name that is none."""
    if not isinstance(table, Mapping):
        what = f"{spot.table} is no table"
        raise spot._replace(table="", key=spot.table).mistake(
            what, "variables stand in one", f"write [{spot.table}]"
        )
    for name in table:
        if not _NAME.fullmatch(name):
            why = "a name has letters, digits and _, and begins with none of these digits"
            raise spot.at(name).mistake(f"{name!r} is no name of a variable", why, "rename it")
    return table


def _set_values(table: Any, spot: Spot, asked: Mapping[str, str]) -> dict[str, Any]:
    """The values of `[set]`, those that mention others filled in."""
    given = dict(_checked(table, spot))
    for name, text in asked.items():
        if name not in given:
            near = nearest_name(name, given) if given else f"add {name} = ... to [set]"
            raise UsageError(f"--set {name}={text}", f"[set] of {spot.path} has no {name!r}", near)
        given[name] = text
    for name, value in given.items():
        flat = value if isinstance(value, list) else [value]
        if not all(isinstance(inner, _PLAIN) for inner in flat):
            why = "a variable is a text, a number, true or false, or a list of these"
            raise spot.at(name).mistake(f"${name} is none of these", why, "write it as a text")
    done: dict[str, Any] = {}
    while len(done) < len(given):
        ready = [
            n for n in given if n not in done and not set(mentioned(given[n])) & (given.keys() - done.keys())
        ]
        if not ready:
            first = next(n for n in given if n not in done)
            raise spot.at(first).mistake(
                f"${first} is made of itself", "that has no end", "give one of them a value"
            )
        done |= {name: filled(given[name], done, spot.at(name)) for name in ready}
    return {name: done[name] for name in given}


def _labelled(given: Any, spot: Spot, folder: Path) -> list[tuple[str, Any]]:
    """Each value of a variable of the matrix with the label that steps are called by."""
    if isinstance(given, str):
        found = sorted(path for path in matching(given, folder) if not path.name.startswith("."))
        if not found:
            why = f"looked in {folder.resolve()}"
            raise spot.mistake(f"nothing fits {given!r}", why, "check the pattern, or write a list")
        pairs: list[tuple[str, Any]] = [(path.stem, _seen_from(folder, path)) for path in found]
    elif isinstance(given, list) and given:
        pairs = [(_as_text(value), value) for value in given]
    else:
        raise spot.mistake(
            f"${spot.key} has no values", "steps are made for each", "write a list, or a pattern"
        )
    labels = set()
    for label, value in pairs:
        if not isinstance(value, _PLAIN):
            raise spot.mistake(
                f"{value!r} is a list or a table", "each value is a text or a number", "write texts"
            )
        if label in labels:
            raise spot.mistake(f"{label!r} is there twice", "its steps would be the same", "leave one out")
        labels.add(label)
    return pairs


def _seen_from(folder: Path, path: Path) -> str:
    return (path.relative_to(folder) if path.is_relative_to(folder) else path).as_posix()


def parse_assignments(words: Sequence[str]) -> dict[str, str]:
    """`name=value` words by name. Raises UsageError."""
    found: dict[str, str] = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not _NAME.fullmatch(name) or name in found:
            raise UsageError(f"--set {word}", "NAME=VALUE is needed, each name once", "write --set year=2030")
        found[name] = value
    return found
