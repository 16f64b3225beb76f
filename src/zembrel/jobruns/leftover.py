"""Results of earlier runs that a job no longer makes, nor would make at its next run."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from zembrel.jobruns.allowed import TABLE
from zembrel.jobs.chains import Chain, asked_of, emptied, key_of, why_due
from zembrel.jobs.contents import Content, mark_of
from zembrel.jobs.graph import written_by
from zembrel.jobs.state import DoneStep, JobState


def records_of(chains: Sequence[Chain], state: JobState) -> dict[str, DoneStep]:
    """Return the record of each chain that was done, by any variant that did what is asked for now."""
    done = state.done()
    found: dict[str, DoneStep] = {}
    for chain in chains:
        id = chain.step.id
        record = state.record(id, key_of(asked_of(chain, TABLE, Path())), done)
        found |= {id: record} if record is not None else {}
    return found


def left_over(chains: Sequence[Chain], state: JobState, gone: Iterable[str] = ()) -> list[Content]:
    """Return the results that are left over.

    chains: all of the job; gone: steps with a record that are no longer in it. A file that a step would make
    at its next run is not left over, whichever step made it before.
    """
    known = state.done()
    made = [content for id in gone for content in known[id].made if mark_of(content.path) is not None]
    found = [*state.left_over(), *made]
    if not found:
        return []
    due = _places_of_due(chains, state, records_of(chains, state))
    return [content for content in found if not _lies_in(state.names.key(content.path), due)]


def _places_of_due(chains: Sequence[Chain], state: JobState, done: Mapping[str, DoneStep]) -> set[str]:
    """Return the files and folders that steps will write at their next run."""
    left = (chain for _, chain in emptied(chains, done) if chain is not None)
    due = (chain for chain in left if why_due(asked_of(chain, TABLE, Path()), done.get(chain.step.id)))
    return {state.names.key(path) for chain in due for _, path, _ in written_by(chain.step)}


def _lies_in(path: str, places: set[str]) -> bool:
    """Return True for one of the places, and for a file in one of them."""
    while path:
        if path in places:
            return True
        path = os.path.dirname(path) if path != os.sep else ""  # noqa: PTH120 a tenth of the time
    return os.curdir in places
