"""Each verb's record holds what its functions, its command and its users need; nothing names what is not there."""

from __future__ import annotations

import dataclasses
import shlex
from collections import Counter

import pytest

from zembrel.cli.command import command_of
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.results.verboptions import function_named, function_of, is_shared, options_of, positionals_of
from zembrel.verbtable import STEPS, VERBS, hint
from zembrel.verbtable.record import FEATURES, POINTS, RASTERS

SHARED = {field.name for group in (Inputs, Where, Output) for field in dataclasses.fields(group)}


def test_names_and_synonyms_mean_one_verb_each() -> None:
    assert sum(map(len, STEPS.values())) == len(VERBS)
    synonyms = Counter(word for verb in VERBS.values() for word in verb.synonyms)
    assert set(synonyms.values()) == {1} and not set(synonyms) & set(VERBS)
    assert hint("Crop") == "clip" and hint("slope") == "terrain INPUT --of slope --out PATH"
    assert hint("frobnicate") is None


@pytest.mark.parametrize("name", VERBS)
def test_a_record_names_functions_and_options_that_are_there(name: str) -> None:
    verb = VERBS[name]
    assert callable(function_of(name)) and verb.revision >= 1
    assert set(verb.handlers) <= {RASTERS, FEATURES, POINTS} and set(verb.ignored_options) <= SHARED
    own = {option.path[-1] for option in options_of(name).values() if not is_shared(name, option)}
    for way in verb.handlers.values():
        assert callable(function_named(way.function))
        assert {option for option in own if way.uses(option)} >= set(way.options.split()) - {"*"}
    used = {option for option in own if any(way.uses(option) for way in verb.handlers.values())}
    assert not verb.handlers or used == own, "an option that is for no kind of data"


@pytest.mark.parametrize("name", VERBS)
def test_no_two_options_share_a_flag_or_a_field(name: str) -> None:
    options = options_of(name).values()
    flags = Counter(flag for option in options if option.text for flag in option.text.flags(option.path[-1]))
    assert all(count == 1 for count in flags.values()), flags
    assert len({option.path[-1] for option in options}) == len(options)
    assert len(positionals_of(name)) == len(VERBS[name].arguments)
    for option in options:
        if option.text is not None:
            assert option.text.help.endswith((".", "]", "?")), option.text.help
            assert (option.text.value is None) == (option.kind == "true or false"), option


@pytest.mark.parametrize("name", VERBS)
def test_an_example_is_understood(name: str) -> None:
    words = shlex.split(VERBS[name].example)
    words = words[: min((words.index(sign) for sign in "<>" if sign in words), default=len(words))]
    head = ["zembrel", *name.split()]
    assert words[: len(head)] == head
    with command_of(name).make_context(name, words[len(head) :]) as context:
        assert context.params
