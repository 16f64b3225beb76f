"""What runs at once: a step that makes files, with those before it that go on as cells alone."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from zembrel.checksums import checksum_of_text
from zembrel.facts import Fact, fact
from zembrel.jobs.contents import listed, mark_of, unchanged
from zembrel.jobs.filenames import FileNames
from zembrel.jobs.graph import written_by
from zembrel.jobs.signature import VerbTable
from zembrel.jobs.state import DoneStep
from zembrel.jobs.steps import JobPlan, JobStep, MadeBy


@dataclass(frozen=True)
class Chain:
    """A step whose result stays, those before it in the same pass, in order, and the steps whose files it
    reads."""

    step: JobStep
    before: tuple[JobStep, ...]
    needs: tuple[str, ...]

    @property
    def steps(self) -> tuple[JobStep, ...]:
        """All of it, in order."""
        return (*self.before, self.step)


def chains_of(job: JobPlan, verbs: VerbTable) -> list[Chain]:
    """The chains of a job, each after those it needs."""
    by_id = {step.id: step for step in job.steps}
    chains: list[Chain] = []
    for step in job.steps:
        if not passes_on(step, verbs):
            before = _before(step, verbs, by_id)
            inside = {one.id for one in before}
            needs = dict.fromkeys(n for one in (*before, step) for n in one.needs if n not in inside)
            chains.append(Chain(step, before, tuple(needs)))
    return chains


def passes_on(step: JobStep, verbs: VerbTable) -> bool:
    """Whether the result of a step goes on as cells, without a file."""
    signature = verbs.of(step.verb)
    return step.out is None and signature.lazy and not signature.silent


def _before(step: JobStep, verbs: VerbTable, by_id: Mapping[str, JobStep]) -> tuple[JobStep, ...]:
    """The steps whose cells go on into `step`, each after those it needs."""
    found: dict[str, JobStep] = {}
    for id in step.needs:
        other = by_id[id]
        if passes_on(other, verbs):
            found |= {one.id: one for one in _before(other, verbs, by_id)}
            found[id] = other
    return tuple(found.values())


def without(chain: Chain, empty: Collection[str]) -> Chain | None:
    """The chain without the results of steps that made nothing; None if one of its steps has nothing left."""
    steps: list[JobStep] = []
    for step in chain.steps:
        inputs = _but_for(empty, step.inputs)
        options = {name: _but_for(empty, value) for name, value in step.options.items()}
        if (step.inputs and not inputs) or None in options.values():
            return None
        steps.append(replace(step, inputs=inputs, options=options))
    return replace(chain, step=steps[-1], before=tuple(steps[:-1]))


def _but_for(empty: Collection[str], value: Any) -> Any:
    """A value of a step without results that are not there; None if it is one, or of several none is left."""
    if isinstance(value, MadeBy):
        return None if value.step in empty else value
    if not isinstance(value, tuple):
        return value
    left = tuple(inner for inner in value if not (isinstance(inner, MadeBy) and inner.step in empty))
    return left if left or not value else None


def emptied(chains: Sequence[Chain], done: Mapping[str, DoneStep]) -> Iterator[tuple[Chain, Chain | None]]:
    """Each chain, and what is left of it by the records of those before it."""
    empty: set[str] = set()
    for chain in chains:
        left = without(chain, empty) if empty.intersection(chain.needs) else chain
        record = done.get(chain.step.id)
        if left is None or (record is not None and record.empty):
            empty.add(chain.step.id)
        yield chain, left


def asked_of(chain: Chain, verbs: VerbTable, folder: Path) -> dict[str, Any]:
    """What a chain is to do, in words that can be compared: the verbs and options of its steps, and what
    inputs mean now."""
    files = FileNames(folder)
    own = {files.key(path) for step in chain.steps for _, path, _ in written_by(step)}
    asked: dict[str, dict[str, Any]] = {}
    for step in chain.steps:
        found = {word: listed(word, folder) for word in step.inputs if isinstance(word, str)}
        asked[step.id] = {
            "verb": step.verb,
            "revision": verbs.of(step.verb).revision,
            "inputs": [_word(value) for value in step.inputs],
            "options": words_of(step),
            "found": {word: [name for name in names if files.key(f"{word}/{name}") not in own]
                      for word, names in found.items()},
        }  # fmt: skip
    return asked


def words_of(step: JobStep) -> dict[str, Any]:
    """The options of a step in words that can be compared, as a record has them."""
    words: dict[str, Any] = json.loads(json.dumps({n: _word(v) for n, v in sorted(step.options.items())}))
    return words


def key_of(asked: Mapping[str, Any]) -> str:
    """What is asked, as one value."""
    return checksum_of_text(json.dumps(asked, sort_keys=True))


def _word(value: Any) -> Any:
    if isinstance(value, MadeBy):
        return f"{value.lead}@{value.step}{'/' * bool(value.rest)}{value.rest}"
    return [_word(inner) for inner in value] if isinstance(value, tuple) else value


def why_due(asked: Mapping[str, Any], done: DoneStep | None) -> Fact | None:
    """Why a chain that is asked for this has to run; None if all is as it was when it was done."""
    if done is None:
        return fact("step_new")
    if done.key != key_of(asked):
        return _difference(done.asked, json.loads(json.dumps(asked)))
    for content in done.made:
        if mark_of(content.path) is None:
            return fact("result_gone", path=content.path)
        if not unchanged(content):
            return fact("result_altered", path=content.path)
    changed = next((content.path for content in done.read if not unchanged(content)), None)
    return fact("input_altered", path=changed) if changed is not None else None


def _difference(before: Mapping[str, Any], asked: Mapping[str, Any]) -> Fact:
    """What is asked otherwise than last time."""
    for id, now in asked.items():
        past = before.get(id, {})
        if past == now:
            continue
        if past.get("verb") != now["verb"]:
            return fact("verb_changed", step=id, verb=now["verb"])
        if past["revision"] != now["revision"]:
            return fact("program_changed", verb=now["verb"])
        names = [name for name in sorted({*past["options"], *now["options"]})
                 if past["options"].get(name) != now["options"].get(name)]  # fmt: skip
        if names:
            return fact("options_changed", options=tuple(name.replace("_", "-") for name in names))
        if past["inputs"] != now["inputs"]:
            break
        for word, found in now["found"].items():
            odd = sorted(set(past["found"].get(word, [])) ^ set(found))
            if odd:
                return fact("files_changed", word=word, path=odd[0])
    return fact("inputs_changed")
