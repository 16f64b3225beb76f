"""What can be known of steps before any of them runs: sizes of results, and options that are wrong."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping, Sequence
from contextlib import nullcontext, suppress
from dataclasses import replace

from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.inputs.options import Where
from zembrel.inputs.within import asked_crs
from zembrel.jobruns.stepping import Setting, done_step
from zembrel.jobs.chains import Chain, words_of
from zembrel.jobs.state import DoneStep
from zembrel.jobs.steps import JobStep, MadeBy
from zembrel.progress import no_tick
from zembrel.raster.model import Raster
from zembrel.reading import readings
from zembrel.results.verboptions import options_of, signature_of

# options for which cells are looked at; without them a result is hardly smaller
_LOOKS = {"trim_collar", "match_tone", "stretch", "classes", "limits"}
_ENOUGH = 0.7  # seconds, after one step of each name; a plan is looked at before anything starts
_CODE = re.compile(r"(?:EPSG:)?\d+", re.IGNORECASE)
_NOT_YET = ".not-made-yet"  # stands before results that are still to be made
Cells = dict[str, list[Raster]]


def sizes_of(chains: Sequence[Chain], setting: Setting) -> dict[str, int]:
    """Bytes at most of what each chain would make, by id of its step; of many, those of the first.

    Steps whose inputs are not there yet are asked on the cells that those before them would make. Raises
    InputError for an option that means nothing, with its line.
    """
    ahead = _Ahead(chains, setting)
    begun = time.monotonic()
    with readings.apart():
        for number, chain in enumerate(ahead.chains):
            if number >= ahead.names and time.monotonic() - begun > _ENOUGH:
                break
            for step in chain.steps:
                ahead.look(step)
    return ahead.sizes


def not_tried(chains: Sequence[Chain], done: Mapping[str, DoneStep]) -> list[Chain]:
    """The chains that were never done with the options that they have now."""
    return [chain for chain in chains if not _tried(chain, done.get(chain.step.id))]


def _tried(chain: Chain, record: DoneStep | None) -> bool:
    before = record.asked if record is not None else {}
    return all(before.get(step.id, {}).get("options") == words_of(step) for step in chain.steps)


class _CodeError(InputError):
    """A code that the registry does not have."""


def _check_code(step: JobStep) -> None:
    """Raise _CodeError for a CRS by a code that there is none of."""
    crs = step.options.get("crs")
    if isinstance(crs, str) and _CODE.fullmatch(crs):
        try:
            asked_crs(Where(crs=crs))
        except InputError as exc:
            raise _CodeError(exc.what, exc.why, exc.remedy) from exc


class _Ahead:
    """Steps that are asked what they would do. names: how many chains come first, one of each name."""

    def __init__(self, chains: Sequence[Chain], setting: Setting) -> None:
        first = {chain.step.name: chain for chain in reversed(chains)}
        chosen = {chain.step.id for chain in first.values()}
        self.chains = sorted(chains, key=lambda chain: chain.step.id not in chosen)
        self.names, self.sizes = len(first), dict[str, int]()
        self._coming = {step.id for chain in chains for step in chain.steps}
        outs = {id: _NOT_YET + "/" + out if id in self._coming else out for id, out in setting.outs.items()}
        self._setting = Setting(outs, {}, dry_run=True)
        self._cells: Cells = {}

    def look(self, step: JobStep) -> None:
        """Keep the size of a step's result, if that can be told, and its cells for those after it."""
        if not step.inputs:
            return
        slow = _LOOKS & step.options.keys()
        try:
            _check_code(step)
            if slow:
                self._ask(replace(step, inputs=(_NOT_YET,)))
            else:
                self._ask(replace(step, inputs=self._there(step)))
        except (UsageError, _CodeError) as exc:
            raise _mistake(step, exc) from exc
        except ZembrelError:
            pass  # it will say so when it runs
        if slow:  # without these options nothing is a mistake of the step
            with suppress(ZembrelError):
                rest = {name: value for name, value in step.options.items() if name not in slow}
                self._ask(replace(step, inputs=self._there(step), options=rest))

    def _ask(self, step: JobStep) -> None:
        if step.out is not None:
            receipt, _ = done_step(step, self._setting, self._cells, no_tick)
            known = [result.bytes_at_most for result in receipt.results if result.bytes_at_most is not None]
            if known:
                self.sizes[step.id] = sum(known)
        if signature_of(step.verb).lazy:
            unplaced = replace(step, options=_unplaced(step))
            with suppress(ZembrelError) if step.out is not None else nullcontext():
                _, self._cells[step.id] = done_step(unplaced, self._setting, self._cells, no_tick)

    def _there(self, step: JobStep) -> tuple[str | MadeBy, ...]:
        """The inputs of a step that are there: none for a verb that cannot only plan, and no file that
        another step is about to make."""
        if "dry_run" not in options_of(step.verb):
            return (_NOT_YET,)
        if not self._coming.intersection(step.after):
            return step.inputs
        return tuple(_NOT_YET if isinstance(value, str) else value for value in step.inputs)


def _unplaced(step: JobStep) -> Mapping[str, object]:
    """The options of a step without a place for its result."""
    return {name: value for name, value in step.options.items() if name not in ("out", "format")}


def _mistake(step: JobStep, error: ZembrelError) -> InputError:
    """The error about an option of a step, with the line of that."""
    what = error.what.removeprefix(f"step {step.id}: ")
    named = [name for name in step.options if f"--{name.replace('_', '-')}" in what]
    named += [name for name, value in step.options.items() if isinstance(value, str) and value in what]
    key = named[0] if named else ""
    lines = (step.spot.at(word) for word in (key, key.replace("_", "-")))
    spot = max(lines, key=lambda spot: spot.own_line)
    return spot.mistake(f"step {step.id}: {what}", error.why, error.remedy)
