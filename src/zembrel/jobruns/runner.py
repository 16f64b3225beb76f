"""The steps of a job in their order: those that are due run, the others stand; what came of each is kept."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent import futures
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zembrel.engine.limits import processors
from zembrel.errors import ResourceError, ZembrelError
from zembrel.facts import Fact, fact
from zembrel.jobruns.stepping import Ended, Setting
from zembrel.jobruns.workers import Workers
from zembrel.jobs.chains import Chain, asked_of, key_of, why_due, without
from zembrel.jobs.contents import Content, Mark, contents_of, with_mark
from zembrel.jobs.signature import VerbTable
from zembrel.jobs.state import DoneStep, JobState
from zembrel.progress import Progress, Tick

_KEPT = 100  # of a list of a receipt
RAN, UNCHANGED, FAILED, LEFT, EMPTY = "ran", "unchanged", "failed", "not run", "empty"


@dataclass
class StepEnd:
    """What became of a chain: its state, why it ran, in how many seconds, how many bytes it made, and how it
    failed; empty: why there was nothing to do."""

    chain: Chain
    state: str
    why: Fact | None = None
    seconds: float = 0.0
    made: int = 0
    ended: Ended | None = None
    error: ZembrelError | None = None
    empty: str = ""


@dataclass
class Runner:
    """A run of chains of steps. said: told of each as it ends; forced: whether a step runs in any case."""

    state: JobState
    verbs: VerbTable
    folder: Path
    setting: Setting
    workers: Workers
    forced: Callable[[str], bool]
    tick: Tick
    said: Callable[[StepEnd, int, int], None]
    keep_going: bool = False
    ends: dict[str, StepEnd] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._done = self.state.done()
        self._known = {c.path: c for done in self._done.values() for c in (*done.read, *done.made)}
        self._asked: dict[str, Mapping[str, Any]] = {}
        self._begun: dict[str, float] = {}
        self._why: dict[str, Fact] = {}

    def run(self, chains: Sequence[Chain]) -> None:
        """Run what is due. Raises the ZembrelError of the first step that fails, unless others go on."""
        waiting, under_way = list(chains), dict[futures.Future[Ended], Chain]()
        while under_way or (waiting and self._goes_on):
            for chain in list(waiting):
                if len(under_way) >= self.workers.most or not self._goes_on:
                    break
                if not all(need in self.ends for need in chain.needs):
                    continue
                waiting.remove(chain)
                future = self._start(chain, len(chains))
                if future is not None:
                    under_way[future] = chain
            if not under_way:
                continue
            ended, _ = futures.wait(under_way, return_when=futures.FIRST_COMPLETED)
            for future in ended:
                self._end(under_way.pop(future), future, len(chains))
        failed = next((end.error for end in self.ends.values() if end.error is not None), None)
        if failed is not None and not self.keep_going:
            raise failed

    @property
    def _goes_on(self) -> bool:
        """Whether further steps begin."""
        return self.keep_going or all(end.error is None for end in self.ends.values())

    def _start(self, chain: Chain, of: int) -> futures.Future[Ended] | None:
        """A chain under way; None if it need not or cannot run."""
        id = chain.step.id
        lacking = next((n for n in chain.needs if self.ends[n].state in (FAILED, LEFT)), None)
        if lacking is not None:
            self._tell(StepEnd(chain, LEFT, fact("needs_step", step=lacking)), of)
            return None
        empty = [need for need in chain.needs if self.ends[need].state == EMPTY]
        left = without(chain, empty) if empty else chain
        if left is None:
            self._tell(StepEnd(chain, EMPTY, empty=f"{', '.join(empty)} made nothing"), of)
            return None
        chain = left
        asked = asked_of(chain, self.verbs, self.folder)
        done = self.state.record(id, key_of(asked), self._done)
        if done is not None:
            self._done[id] = done
        why = fact("step_forced") if self.forced(id) else why_due(asked, done)
        if why is None:
            self._keep_marks(id)
            said = self._done[id].empty
            self._tell(StepEnd(chain, EMPTY if said else UNCHANGED, empty=said), of)
            return None
        self._asked[id], self._why[id], self._begun[id] = asked, why, time.perf_counter()
        return self.workers.start(chain, self.setting, self._ticking(chain, of))

    def _keep_marks(self, id: str) -> None:
        """Files that were copied or touched, and hold what they did, are known by their new marks."""
        done = self._done[id]
        read, made = tuple(map(with_mark, done.read)), tuple(map(with_mark, done.made))
        if (read, made) != (done.read, done.made):
            self._done[id] = replace(done, read=read, made=made)
            self.state.enter(id, self._done[id])

    def _ticking(self, chain: Chain, of: int) -> Tick:
        return _StepTick(self.tick, chain.step.id, len(self.ends), of)

    def _end(self, chain: Chain, future: futures.Future[Ended], of: int) -> None:
        """A chain has ended: keep what came of it."""
        id = chain.step.id
        seconds = time.perf_counter() - self._begun[id]
        try:
            ended = future.result()
        except (ZembrelError, BrokenProcessPool) as exc:
            error = exc if isinstance(exc, ZembrelError) else _lost(id)
            self._tell(StepEnd(chain, FAILED, self._why[id], seconds, error=error), of)
            return
        except InterruptedError as exc:
            raise KeyboardInterrupt from exc
        names = self.state.names
        written = {names.of(path): mark for path, mark in ended.written}
        read = {name: mark for path, mark in ended.read if (name := names.of(path)) not in written}
        made = self._contents(written)
        asked = self._asked.pop(id)
        told = [_cut({"verb": receipt.verb, **receipt.facts}) for receipt in ended.receipts]
        row = {"seconds": round(seconds, 3), "receipts": told} | (
            {"empty": ended.empty} if ended.empty else {}
        )
        kept = json.dumps(row, default=str)
        done = DoneStep(key_of(asked), asked, seconds, kept, self._contents(read), made)
        self.state.enter(id, done)
        self._done[id] = done
        size = sum(content.mark.size for content in made)
        state = EMPTY if ended.empty else RAN
        self._tell(StepEnd(chain, state, self._why[id], seconds, size, ended, empty=ended.empty), of)

    def _contents(self, then: Mapping[str, Mark]) -> tuple[Content, ...]:
        """What is in files; of one that has changed since it was read, what no later look will find."""
        found = list(contents_of(list(then), self._known, processors()))
        self._known |= {content.path: content for content in found}
        return tuple(
            content if _same(content.mark, then[content.path]) else content._replace(checksum="")
            for content in found
        )

    def _tell(self, end: StepEnd, of: int) -> None:
        id = end.chain.step.id
        self.ends[id] = end
        if end.state == UNCHANGED:
            self.state.stands(id, (content.path for content in self._done[id].made))
        self.said(end, len(self.ends), of)
        self.tick(Progress(0, 0, 0, 0, id, len(self.ends), of))


@dataclass(frozen=True)
class _StepTick:
    """Tells how far a step is, and how far the job."""

    tick: Tick
    step: str
    steps: int
    of: int

    def __call__(self, progress: Progress) -> None:
        self.tick(progress._replace(step=self.step, steps=self.steps, all_steps=self.of))


def _lost(step: str) -> ResourceError:
    what = f"step {step}: a process of this run was lost"
    why = "somebody ended it, perhaps the system for want of memory; the others end with it"
    return ResourceError(what, why, "use fewer --jobs or less --memory; what is done stands")


def _cut(facts: Any) -> Any:
    """Facts without the ends of long lists."""
    if isinstance(facts, dict):
        return {key: _cut(value) for key, value in facts.items()}
    return [_cut(value) for value in facts[:_KEPT]] if isinstance(facts, list | tuple) else facts


def _same(now: Mark, then: Mark) -> bool:
    return (now.size, now.changed, now.inode) == (then.size, then.changed, then.inode)
