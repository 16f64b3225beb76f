"""run: the steps of a job file, those alone of which something has changed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import chdir, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

from zembrel.engine.cluster import Cluster
from zembrel.engine.limits import processors
from zembrel.errors import CheckError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.inputs.options import Output
from zembrel.jobruns.allowed import TABLE, check_results
from zembrel.jobruns.figure import check_figure, draw_job
from zembrel.jobruns.leftover import left_over, records_of
from zembrel.jobruns.planned import not_tried, sizes_of
from zembrel.jobruns.runner import EMPTY, RAN, UNCHANGED, Runner, StepEnd
from zembrel.jobruns.stepping import Setting
from zembrel.jobruns.workers import workers_for
from zembrel.jobs.chains import Chain, asked_of, chains_of, emptied, why_due
from zembrel.jobs.contents import Content
from zembrel.jobs.graph import after, needed
from zembrel.jobs.jobfile import ENDING, read_job
from zembrel.jobs.state import DoneStep, JobState, state_file
from zembrel.jobs.steps import JobPlan, JobStep, MadeBy
from zembrel.jobs.variables import parse_assignments
from zembrel.measure import parse_bytes
from zembrel.optiontext import OptionText
from zembrel.progress import step_ended, tell
from zembrel.results.receipt import LOSSES, Loss, Receipt

DUE = "to run"


@dataclass(frozen=True)
class Running:
    """Which steps, and how.

    only: ids of steps, which are brought up to date with what they need; start: ids from which on all run;
    force: all run; jobs: steps at once; set: `name=value` for variables; clean: no step runs, and results
    that the job no longer makes are removed.
    """

    only: Annotated[
        tuple[str, ...],
        OptionText("Run only this step and the steps it needs, if they changed. Repeatable.", "ID"),
    ] = ()
    start: Annotated[
        tuple[str, ...],
        OptionText("Run this step and all later ones, changed or not. Repeatable.", "ID", flag="--from"),
    ] = ()
    force: Annotated[bool, OptionText("Run all steps, changed or not.")] = False
    jobs: Annotated[int, OptionText("Number of steps to run at a time.", "N")] = 1
    set: Annotated[tuple[str, ...], OptionText("Set a variable of [set]. Repeatable.", "NAME=VALUE")] = ()
    figure: Annotated[str | None, OptionText("Draw the steps, and which of them are due.", "PNG")] = None
    clean: Annotated[
        bool, OptionText("Run no step; list results that the job no longer makes, then remove them.")
    ] = False


def run(output: Output, path: str, running: Running = Running()) -> Receipt:
    """Run what is due of the job in the file at `path`, or with a dry run only tell what would be.

    Raises InputError for a mistake in the file, and what the first step raises that fails.
    """
    if running.jobs < 1:
        raise UsageError(f"--jobs {running.jobs}", "at least one step runs at a time", "write --jobs 2")
    file = Path(path)
    if not file.is_file() and file.with_name(file.name + ENDING).is_file():
        file = file.with_name(file.name + ENDING)
    job = read_job(file, TABLE, parse_assignments(running.set))
    check_figure(running.figure)
    figure = Path(running.figure).absolute() if running.figure is not None else None
    with chdir(file.parent):
        whole = _Whole(job, Path(file.name), output, running)
        receipt = whole.cleaned() if running.clean else whole.planned() if output.dry_run else whole.done()
    if figure is not None and not running.clean:
        title = job.title or file.name
        draw_job(receipt.own["steps"], title, figure, replace=output.replace)
        receipt = replace(receipt, products={"figure": Path(str(running.figure))})
    return receipt


class _Whole:
    """A run of a job, from the folder of its file."""

    def __init__(self, job: JobPlan, file: Path, output: Output, running: Running) -> None:
        self._job, self._file, self._output, self._running = job, file, output, running
        only, start = self._ids(running.only, "--only"), self._ids(running.start, "--from")
        self._forced = after(job, start)
        chosen = needed(job, only or {step.id for step in job.steps})
        if start:
            chosen &= needed(job, self._forced)
        self._all = chains_of(job, TABLE)
        self._chains = [chain for chain in self._all if chain.step.id in chosen]
        outs = {step.id: step.out for step in job.steps if step.out is not None}
        self._setting = Setting(outs, self._budget(), output.dry_run)
        self._variant = "\n".join(sorted(running.set))

    def _ids(self, words: Sequence[str], option: str) -> set[str]:
        """The steps that are meant: one, or all of a matrix. Raises UsageError."""
        found: set[str] = set()
        for word in words:
            ids = {step.id for step in self._job.steps if word in (step.id, step.name)}
            if not ids:
                names = {step.name for step in self._job.steps}
                raise UsageError(f"{option} {word}", "the job has no such step", nearest_name(word, names))
            found |= ids
        return found

    def _budget(self) -> dict[str, Any]:
        """Workers, memory and cluster of each step: what is said, shared by those at once."""
        jobs = self._running.jobs
        workers = self._output.workers or (max(1, processors() // jobs) if jobs > 1 else 0)
        budget: dict[str, Any] = {"workers": workers} if workers else {}
        if isinstance(self._output.executor, Cluster):
            budget["cluster"] = self._output.executor.address
        if self._output.memory:
            budget["memory"] = str(parse_bytes(self._output.memory) // jobs)
        return budget

    def _is_forced(self, id: str) -> bool:
        return self._running.force or id in self._forced

    @contextmanager
    def _opened(self, *, lock: bool = True) -> Iterator[JobState]:
        state = JobState(self._file, lock=lock, variant=self._variant)
        try:
            yield state
        finally:
            state.close()

    def done(self) -> Receipt:
        """Run what is due."""
        if new := not state_file(self._file).exists():  # nothing is written before all is known to be right
            self._check(None)
            sizes_of(self._chains, self._setting)
        with self._opened() as state:
            self._check(state)
            if not new:
                sizes_of(not_tried(self._chains, records_of(self._chains, state)), self._setting)
            self._forget(state)
            with workers_for(self._running.jobs, state, self._file, self._output.replace) as workers:
                runner = Runner(
                    state, TABLE, Path(), self._setting, workers, self._is_forced, self._output.tick,
                    self._told, self._output.keep_going,
                )  # fmt: skip
                runner.run(self._chains)
            left = left_over(self._all, state)
        ends = [runner.ends[chain.step.id] for chain in self._chains]
        failed = [end for end in ends if end.error is not None]
        if failed and not any(end.state in (RAN, UNCHANGED, EMPTY) for end in ends):
            raise failed[0].error or CheckError("no step could be done", "all failed", "see above")
        rows = [_row(end) for end in ends]
        lossy = bool(failed) or any(end.ended is not None and end.ended.lossy for end in ends)
        return self._receipt(rows, ends, left, LOSSES if lossy else 0)

    def cleaned(self) -> Receipt:
        """Remove results that the job no longer makes and that are as it made them."""
        removed: list[str] = []
        changed: list[str] = []
        if state_file(self._file).exists():
            with self._opened() as state:
                self._forget(state)
                left = left_over(self._all, state)
                for content in left:
                    tell(f"the job no longer makes {content.path}", again=True)
                if not self._output.dry_run:
                    removed, changed = state.remove(left)
        own = {"title": self._job.title, "steps": (), "removed": removed, "changed": changed}
        return Receipt("run", (self._file,), seconds=self._output.seconds, own=own)

    def _forget(self, state: JobState) -> None:
        """Forget steps that are no longer in the job."""
        state.forget(self._gone(state))

    def _gone(self, state: JobState) -> list[str]:
        """The steps of this variant that have a record and are no longer in the job."""
        return sorted(state.own - {step.id for step in self._job.steps})

    def _check(self, state: JobState | None) -> None:
        """Raise RefusedError, before anything runs, for what a step may not overwrite."""
        check_results(self._chains, state, self._file, self._output.replace, self._is_forced)

    def _told(self, end: StepEnd, number: int, of: int) -> None:
        step_ended(_row(end) | {"number": number, "of": of})

    def _receipt(
        self, rows: Sequence[dict[str, Any]], ends: Sequence[StepEnd], left: Sequence[Content], code: int
    ) -> Receipt:
        lost = tuple(Loss(f"step {end.chain.step.id}", end.error) for end in ends if end.error is not None)
        return Receipt(
            "run", (self._file,), seconds=self._output.seconds, exit_code=code, lost=lost,
            own={"title": self._job.title, "steps": rows, "left_over": [content.path for content in left]},
        )  # fmt: skip

    def planned(self) -> Receipt:
        """What would run and why, and what it would make."""
        done: dict[str, DoneStep] = {}
        left: list[Content] = []
        if state_file(self._file).exists():
            with self._opened(lock=False) as state:
                self._check(state)
                done, left = records_of(self._chains, state), left_over(self._all, state, self._gone(state))
        else:
            self._check(None)
        reasons = self._reasons(done)
        due = [chain for chain in self._chains if reasons[chain.step.id] is not None]
        sizes = sizes_of(due, self._setting)
        rows = []
        for chain in self._chains:
            why = reasons[chain.step.id]
            before = done.get(chain.step.id)
            made = sum(content.mark.size for content in before.made) if before is not None else 0
            empty = (
                before.empty
                if before is not None
                else ""
                if why is not None
                else "nothing is left of its inputs"
            )
            now = DUE if why is not None else EMPTY if empty else UNCHANGED
            seconds = before.seconds if before else 0.0
            end = StepEnd(chain, now, why, seconds, made, empty=empty if now == EMPTY else "")
            rows.append(
                _row(end) | ({"bytes_at_most": sizes[chain.step.id]} if chain.step.id in sizes else {})
            )
        return replace(self._receipt(rows, (), left, 0), planned=True)

    def _reasons(self, done: Mapping[str, DoneStep]) -> dict[str, Fact | None]:
        """Why each chain would run, as far as can be told before any does."""
        reasons: dict[str, Fact | None] = {}
        for chain, left in emptied(self._chains, done):
            id = chain.step.id
            ahead = next((need for need in chain.needs if reasons.get(need) is not None), None)
            if self._is_forced(id):
                reasons[id] = fact("step_forced")
                continue
            found = why_due(asked_of(left, TABLE, Path()), done.get(id)) if left is not None else None
            reasons[id] = found or (fact("after_step", step=ahead) if ahead is not None else None)
        return reasons


def _row(end: StepEnd) -> dict[str, Any]:
    """A chain for programs."""
    step = end.chain.step
    row: dict[str, Any] = {
        "id": step.id, "name": step.name, "verb": step.verb, "state": end.state,
        "inputs": [word for one in end.chain.steps for word in _words(one, end.chain)],
        "needs": list(end.chain.needs),
    }  # fmt: skip
    row |= {"out": step.out} if step.out is not None else {}
    row |= (
        {"with": [{"id": one.id, "verb": one.verb} for one in end.chain.before]} if end.chain.before else {}
    )
    row |= {"why": end.why.facts} if end.why is not None else {}
    row |= {"seconds": round(end.seconds, 3)} if end.seconds else {}
    row |= {"bytes": end.made} if end.made else {}
    row |= {"empty": end.empty.removeprefix(f"step {step.id}: ")} if end.empty else {}
    if end.error is not None:
        row |= {"error": end.error.what.removeprefix(f"step {step.id}: ")}
    if end.ended is not None:
        row["receipts"] = [{"verb": receipt.verb, **receipt.facts} for receipt in end.ended.receipts]
    return row


def _words(step: JobStep, chain: Chain) -> list[str]:
    """What a step reads, as the file says it; cells of its own pass aside."""
    inside = {one.id for one in chain.before}
    values = step.inputs or tuple(step.made)
    return [
        f"@{value.step}" if isinstance(value, MadeBy) else value
        for value in values
        if not (isinstance(value, MadeBy) and value.step in inside)
    ]
