"""Reading `*.job.toml`: checked as a whole, every mistake with its line and what would be right."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.errors import nearest_name
from zembrel.jobs.graph import checked_graph
from zembrel.jobs.mistakes import Spot
from zembrel.jobs.places import KeyLines
from zembrel.jobs.signature import Signature, VerbTable
from zembrel.jobs.steps import FAIL, REFERENCE, WHEN_EMPTY, WRITE, JobPlan, JobStep, MadeBy
from zembrel.jobs.variables import Variables, filled, mentioned, read_variables
from zembrel.jobs.written import as_typed, check_names
from zembrel.tomlfile import read_toml

ENDING = ".job.toml"
MOST_STEPS = 200_000
_KEYS = ("title", "set", "matrix", "shared", "step")
_ID = re.compile(r"[A-Za-z][A-Za-z0-9_-]*")
_WHEN_EMPTY = "when_empty"
_OWN = ("id", "verb", "inputs", _WHEN_EMPTY)
_NOT_SHARED = ("id", "verb", "inputs", "out")


def read_job(path: Path, verbs: VerbTable, asked: Mapping[str, str] | None = None) -> JobPlan:
    """The job in the file at `path`; asked: values of variables instead of those it says.

    Paths in it are seen from its folder. Raises InputError for the first mistake, UsageError for a variable
    that is asked for in vain.
    """
    table = read_toml(path, "job file")
    spot = Spot(path, KeyLines.of(path.read_text("utf-8")))
    steps = _tables(table, spot)
    variables = read_variables(table, spot, path.parent, asked or {})
    shared = _shared(table.get("shared", {}), spot._replace(table="shared"), verbs, steps)
    made = _instances(steps, shared, variables, spot, verbs)
    _check_used(variables, table, spot)
    return JobPlan(str(table.get("title", "")), checked_graph(made, path.parent, verbs), spot)


def _tables(table: Mapping[str, Any], spot: Spot) -> list[dict[str, Any]]:
    """The tables of the steps. Raises InputError for keys that are none."""
    for key in table:
        if key not in _KEYS:
            near = nearest_name(key, _KEYS)
            raise spot.at(key).mistake(
                f"unknown key {key!r}", "a misspelt key would silently do nothing", near
            )
    if not isinstance(table.get("title", ""), str):
        raise spot.at("title").mistake("the title is no text", "receipts show it", 'write title = "..."')
    steps = table.get("step", [])
    if not isinstance(steps, list) or not all(isinstance(step, Mapping) for step in steps):
        why = "each step is a table of its own in a list of them"
        raise spot.at("step").mistake("step is no list of steps", why, "write [[step]], with two brackets")
    if not steps:
        raise spot.mistake(
            "there is no step", "a job is made of them", "add [[step]] with id, verb and inputs"
        )
    names: list[str] = []
    for number, step in enumerate(steps):
        names.append(_checked_id(step, spot._replace(table="step", number=number), names))
    return [dict(step) for step in steps]


def _checked_id(step: Mapping[str, Any], spot: Spot, before: Sequence[str]) -> str:
    """The id of a step. Raises InputError if it has none, or one that another has."""
    name = step.get("id")
    if name is None:
        raise spot.mistake("a step without id", "others name it by that", 'add id = "..."')
    if not isinstance(name, str) or not _ID.fullmatch(name):
        why = "an id has letters, digits, _ and -, and begins with a letter"
        raise spot.at("id").mistake(f"id = {name!r}", why, 'write id = "relief"')
    if name in before:
        raise spot.at("id").mistake(
            f"two steps are called {name!r}", "others could mean either", "rename one"
        )
    return name


def _verb_of(step: Mapping[str, Any], spot: Spot, verbs: VerbTable) -> str:
    verb = step.get("verb")
    if verb is None:
        raise spot.mistake(f"step {step['id']} has no verb", "it says what to do", 'add verb = "clip"')
    if verb not in verbs.names:
        why = "steps do what the verbs of the command line do with data"
        raise spot.at("verb").mistake(f"there is no verb {verb!r}", why, verbs.hint(str(verb)))
    return str(verb)


def _shared(given: Any, spot: Spot, verbs: VerbTable, steps: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Options of all steps that heed them. Raises InputError for one that no step heeds."""
    if not isinstance(given, Mapping):
        here = spot._replace(table="", key="shared")
        raise here.mistake("shared is no table", "it holds options of all steps", "write [shared]")
    heeded = {
        name for step in steps if step.get("verb") in verbs.names for name in verbs.of(step["verb"]).options
    }
    for key in given:
        name = key.replace("-", "_")
        if name == _WHEN_EMPTY:
            continue
        if name in _NOT_SHARED:
            raise spot.at(key).mistake(
                f"{key} cannot be shared", "each step has its own", "write it in the steps"
            )
        if name not in heeded:
            near = nearest_name(name, heeded)
            raise spot.at(key).mistake(f"no step has an option {key!r}", "it would do nothing", near)
    return dict(given)


def _check_used(variables: Variables, table: Mapping[str, Any], spot: Spot) -> None:
    """Raise InputError for a variable that nobody mentions."""
    used = set(mentioned(table))
    for name in (*variables.values, *variables.matrix):
        if name not in used and f"{name}_name" not in used:
            here = spot._replace(table="matrix" if name in variables.matrix else "set", key=name)
            near = nearest_name(name, used) if used else f"write ${name} in a step"
            raise here.mistake(f"${name} is used by no step", "it does nothing", near)


def _instances(
    steps: Sequence[dict[str, Any]],
    shared: Mapping[str, Any],
    variables: Variables,
    spot: Spot,
    verbs: VerbTable,
) -> list[JobStep]:
    """Every step, once for each value of the variables that it, or a step that it needs, mentions."""
    tables = {step["id"]: _with_shared(step, shared, verbs, spot, n) for n, step in enumerate(steps)}
    spread = _spread(tables, variables)
    _check_count(sum(variables.count(names) for names in spread.values()), spot)
    ids = {
        name: {tuple(labels.items()): _called(name, labels) for labels, _ in variables.products(spread[name])}
        for name in tables
    }
    made: list[JobStep] = []
    for number, (name, step) in enumerate(tables.items()):
        here = spot._replace(table="step", number=number)
        verb = _verb_of(step, here, verbs)
        signature = verbs.of(verb)
        when_empty = _when_empty(step, verb, signature, here)
        for labels, values in variables.products(spread[name]):
            said = {
                key: _referred(filled(value, values, here.at(key)), labels, ids, here.at(key))
                for key, value in step.items()
                if key.replace("-", "_") not in _OWN
            }
            typed = {
                option: as_typed(signature.options[option], value, here.at(_key(step, option)))
                for option, value in check_names(said, verb, signature, here).items()
            }
            inputs = _inputs(step.get("inputs", []), values, here.at("inputs"))
            given = _referred(inputs, labels, ids, here.at("inputs"))
            id = _called(name, labels)
            made.append(JobStep(id, name, verb, tuple(given), typed, here, when_empty=when_empty))
    return made


def _when_empty(step: Mapping[str, Any], verb: str, signature: Signature, spot: Spot) -> str:
    """What a step does where there is nothing to do. Raises InputError."""
    key = _key(step, _WHEN_EMPTY)
    said = step.get(key, FAIL)
    if said not in WHEN_EMPTY:
        why = f"it is {', '.join(WHEN_EMPTY[:-1])} or {WHEN_EMPTY[-1]}"
        near = nearest_name(str(said), WHEN_EMPTY)
        raise spot.at(key).mistake(f"{key} = {said!r}", why, near)
    if said == WRITE and "keep_empty" not in signature.options:
        why = f"{verb} makes nothing where there is nothing"
        raise spot.at(key).mistake(f"{key} = {said!r}", why, 'write when-empty = "skip"')
    return str(said)


def _check_count(steps: int, spot: Spot) -> None:
    """Raise InputError for more steps than a job may have."""
    if steps > MOST_STEPS:
        what = f"the job has {steps:,} steps"
        why = f"a step is made for each combination of [matrix], and {MOST_STEPS:,} are the most"
        raise spot._replace(table="matrix").mistake(what, why, "take values or variables out of [matrix]")


def _key(step: Mapping[str, Any], option: str) -> str:
    """How a step writes the name of an option."""
    return option if option in step else option.replace("_", "-")


def _with_shared(
    step: dict[str, Any], shared: Mapping[str, Any], verbs: VerbTable, spot: Spot, number: int
) -> dict[str, Any]:
    """A step with the shared options that its verb heeds and that it does not say itself."""
    here = spot._replace(table="step", number=number)
    options = verbs.of(_verb_of(step, here, verbs)).options
    own = {key.replace("-", "_") for key in step}
    heeded = {*options, _WHEN_EMPTY} - own
    more = {key: value for key, value in shared.items() if key.replace("-", "_") in heeded}
    if WRITE in (more.get(key) for key in (_WHEN_EMPTY, "when-empty")) and "keep_empty" not in options:
        more = {key: value for key, value in more.items() if value != WRITE}
    return step | more


def _inputs(given: Any, values: Mapping[str, Any], spot: Spot) -> list[str]:
    """The inputs of a step. Raises InputError for what is no text."""
    found = filled([given] if isinstance(given, str) else given, values, spot)
    flat = (
        [word for inner in found for word in (inner if isinstance(inner, list) else [inner])]
        if isinstance(found, list)
        else [found]
    )
    for word in flat:
        if not isinstance(word, str) or not word:
            why = "files, folders, patterns and @steps are"
            raise spot.mistake(f"{word!r} is no input", why, 'write inputs = ["relief.tif", "@island"]')
    return flat


def _called(name: str, labels: Mapping[str, str]) -> str:
    return f"{name}[{','.join(labels.values())}]" if labels else name


def _references(value: Any) -> Iterator[re.Match[str]]:
    if isinstance(value, str):
        found = REFERENCE.fullmatch(value)
        if found is not None:
            yield found
    elif isinstance(value, list | tuple):
        for inner in value:
            yield from _references(inner)


def _spread(tables: Mapping[str, Mapping[str, Any]], variables: Variables) -> dict[str, list[str]]:
    """The variables of the matrix by which each step is spread: its own, and those of the steps it needs."""
    own = {name: set(mentioned(list(table.values()))) for name, table in tables.items()}
    needs = {
        name: {
            m["name"]
            for v in table.values()
            for m in _references(v)
            if not m["every"] and m["name"] in tables
        }
        for name, table in tables.items()
    }
    for _ in tables:  # a cycle is found later
        grown = {name: own[name].union(*(own[other] for other in needs[name])) for name in tables}
        if grown == own:
            break
        own = grown
    return {name: variables.spread(names) for name, names in own.items()}


Labels = Mapping[str, str]


def _referred(value: Any, labels: Labels, ids: Mapping[str, Mapping[Any, str]], spot: Spot) -> Any:
    """`value` with the results of other steps for `@step`, and of all of its kind for `@step*`.

    Raises InputError for a step that is not there.
    """
    if isinstance(value, list):
        parts = [_referred(inner, labels, ids, spot) for inner in value]
        return [inner for part in parts for inner in (part if isinstance(part, list) else [part])]
    found = REFERENCE.fullmatch(value) if isinstance(value, str) else None
    if found is None:
        return value
    name, rest, lead = found["name"], (found["rest"] or "")[1:], found["lead"] or ""
    if name not in ids:
        why = "@ is followed by the id of one; ./@name is a file"
        raise spot.mistake(f"there is no step {name!r}", why, nearest_name(name, ids))
    if not found["every"]:
        key = tuple((k, labels[k]) for k, _ in next(iter(ids[name])))
        return MadeBy(ids[name][key], rest, lead)
    fitting = [id for key, id in ids[name].items() if all(labels.get(k, v) == v for k, v in key)]
    return [MadeBy(id, rest, lead) for id in fitting]
