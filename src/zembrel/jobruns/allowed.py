"""What a run of a job may overwrite, asked before its first step."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from zembrel.engine.commit import replaces_folder
from zembrel.errors import RefusedError, nearest_name
from zembrel.jobs.chains import Chain, asked_of, why_due
from zembrel.jobs.filenames import FileNames
from zembrel.jobs.graph import written_by
from zembrel.jobs.signature import VerbTable
from zembrel.jobs.state import DoneStep, JobState, check_own, files_of_job, of_job
from zembrel.results.verboptions import signature_of
from zembrel.verbtable import called_by
from zembrel.verbtable.record import ALL, JOBS


def _meant(word: str) -> str:
    return nearest_name(word, TABLE.names)


TABLE = VerbTable(tuple(called_by(ALL, JOBS)), signature_of, _meant)


def check_results(
    chains: Sequence[Chain], state: JobState | None, job: Path, replace: bool, forced: Callable[[str], bool]
) -> None:
    """Raise RefusedError for a file that a step may not overwrite.

    These are files of the job itself, files that the job has not made (unless `replace`, or its step says
    so), and folders in which others have put something. state: of the job, if it was ever run.
    """
    claimed, done = (state.claimed, state.done()) if state is not None else (set(), {})
    names = FileNames(Path())
    own = set(map(names.key, files_of_job(job)))
    for chain in chains:
        replaces = replace or bool(chain.step.options.get("replace"))
        files = [path for _, path, is_folder in written_by(chain.step) if not is_folder]
        keys = {path: names.key(path) for path in files}
        if odd := next((path for path, key in keys.items() if key in own), None):
            raise of_job(odd)
        if not replaces:
            check_own([path for path in files if keys[path] not in claimed and not Path(path).is_dir()])
        _check_folder(chain, state if replaces else None, done.get(chain.step.id), forced)


def _check_folder(
    chain: Chain, state: JobState | None, done: DoneStep | None, forced: Callable[[str], bool]
) -> None:
    """Raise RefusedError for a folder that would be replaced as a whole, with what others have put there.

    state: if what the job has made may be replaced, changed or not.
    """
    out = Path(chain.step.out or "-")
    if (chain.step.out or "/").endswith("/") or not out.is_dir() or replaces_folder(out):
        return
    if why_due(asked_of(chain, TABLE, Path()), done) is None and not forced(chain.step.id):
        return
    if state is None or not state.owns(out):
        what = f"step {chain.step.id}: {out} was changed since this job made it"
        remedy = "move what is yours away, or add --replace if nothing is"
        raise RefusedError(what, "the folder is one result, and is replaced as a whole", remedy)
