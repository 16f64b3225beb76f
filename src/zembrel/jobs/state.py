"""The record of the runs of a job, in one SQLite file beside it.

A step is done when its row exists. The row is written after the results are in their places, with what they
hold. A path is claimed before the job puts a file there: whatever a killed run has left belongs to the job,
and a file at a path that is not claimed is never replaced unasked. A result that its step no longer makes is
never removed by a run: it is listed as left over.
"""

from __future__ import annotations

import json
import os
import threading
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zembrel.errors import RefusedError, ResourceError
from zembrel.jobs.contents import Content, Mark, mark_of, unchanged
from zembrel.jobs.filenames import FileNames
from zembrel.jobs.statefile import StateFile


@dataclass(frozen=True)
class DoneStep:
    """A step that was done: what was asked, in one value and in words; its receipts as JSON; what it read and
    made."""

    key: str
    asked: Mapping[str, Any]
    seconds: float
    receipt: str
    read: tuple[Content, ...] = ()
    made: tuple[Content, ...] = ()

    @property
    def empty(self) -> str:
        """Why there was nothing to do; empty for a step that did something."""
        if self.made or '"empty"' not in self.receipt:
            return ""
        return str(json.loads(self.receipt).get("empty", ""))


def state_file(job: Path) -> Path:
    """Where the state of a job is kept: `island.state.sqlite` beside `island.job.toml`."""
    return job.with_name(job.name.removesuffix(".toml").removesuffix(".job") + ".state.sqlite")


_STEPS = "select * from step order by rowid"  # the latest comes last
_OF_VARIANT = "\x1f"  # between the id of a step and its variant


def files_of_job(job: Path) -> list[Path]:
    """Return the files that no step may write: the job, its state, and what SQLite puts beside that."""
    state = state_file(job)
    return [job, state, *(state.with_name(state.name + end) for end in ("-wal", "-shm", "-journal"))]


class JobState:
    """The state of one job. `lock`: whether no other run may have it meanwhile.

    variant: the values of variables that were given to the run; None for whichever ran last. Each variant
    keeps its own record of each step, so that the delivery of one month stays known while another is made. A
    step that a variant has not done counts as done if another variant did the very same.
    """

    def __init__(self, job: Path, *, lock: bool = True, variant: str | None = "") -> None:
        """Raises RefusedError while another run of the job has it, InputError for a file that is no state."""
        self._variant, self._suffix = variant, f"{_OF_VARIANT}{variant}" if variant else ""
        self._file = StateFile(state_file(job), lock=lock)
        self._base, self._sound, self._turns = self._file.base, self._file.sound, threading.Lock()
        self.names = FileNames(job.parent)
        self._read: dict[str, DoneStep] | None = None
        self._same: dict[tuple[str, str], DoneStep] = {}
        self._claimed: set[str] | None = None
        self._own = frozenset(map(self.names.key, files_of_job(job)))

    def done(self) -> dict[str, DoneStep]:
        """Return the steps that were done, by id. Raises InputError for a damaged file."""
        if self._read is None:
            self._read = self._read_steps()
        return dict(self._read)

    @property
    def own(self) -> frozenset[str]:
        """The steps that this variant has a record of."""
        self.done()
        return self._own_steps

    def _read_steps(self) -> dict[str, DoneStep]:
        parts: dict[str, tuple[list[Content], list[Content]]] = {}
        found: dict[str, DoneStep] = {}
        own: dict[str, DoneStep] = {}
        with self._sound():
            for name, made, *content in self._base.execute("select * from content"):
                parts.setdefault(name, ([], []))[made].append(_content(*content))
            for name, key, asked, seconds, receipt, _ in self._base.execute(_STEPS):
                read, wrote = parts.get(name, ([], []))
                done = _done(key, json.loads(asked), seconds, receipt, read, wrote)
                id, _, variant = name.partition(_OF_VARIANT)
                (own if variant == self._variant else found)[id] = done
                self._same[id, done.key] = done
        self._own_steps = frozenset(own)
        return found | own

    def record(self, id: str, key: str, done: Mapping[str, DoneStep]) -> DoneStep | None:
        """Return the record of a step: of a variant that did what `key` asks for, else the one in `done`."""
        last = done.get(id)
        return last if last is not None and last.key == key else self._same.get((id, key), last)

    def enter(self, id: str, done: DoneStep) -> None:
        """Record a step as done."""
        name = id + self._suffix
        rows = [
            (name, made, content.path, *content.mark, content.checksum)
            for made, contents in enumerate((done.read, done.made))
            for content in contents
        ]
        row = (name, done.key, json.dumps(done.asked), done.seconds, done.receipt, self._variant)
        made = [(content.path,) for content in done.made]
        with self._sound(), self._base:
            self._leave([id])
            self._base.executemany("delete from left_over where path = ?", made)
            self._base.executemany("insert into content values (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            self._base.execute("insert or replace into step values (?, ?, ?, ?, ?, ?)", row)

    def forget(self, ids: Sequence[str]) -> None:
        """Forget steps that are no longer in the job. Their results are left over."""
        with self._sound(), self._base:
            self._leave(ids)

    def _leave(self, ids: Sequence[str]) -> None:
        """Take steps away; whatever they made is left over until a step makes it again."""
        self._read = None
        columns = "path, variant, size, changed, altered, inode, checksum"
        chosen = f"select {columns} from content join step on id = step where id = ? and made = 1"
        for name in (id + self._suffix for id in ids):
            self._base.execute(f"insert or replace into left_over {chosen}", (name,))
            self._base.execute("delete from content where step = ?", (name,))
            self._base.execute("delete from step where id = ?", (name,))

    def left_over(self) -> list[Content]:
        """Return results of earlier runs of this variant that no step makes any more and that still exist."""
        with self._sound():
            made = [path for (path,) in self._base.execute("select path from content where made = 1")]
            keys = set(map(self.names.key, made))
            asked = "select path, size, changed, altered, inode, checksum from left_over where variant = ?"
            rows = [_content(*row) for row in self._base.execute(f"{asked} order by path", (self._variant,))]
        found = [c for c in rows if self.names.key(c.path) not in keys and mark_of(c.path) is not None]
        if not found:
            return []
        files = {(mark.inode, mark.size) for path in made if (mark := mark_of(path)) is not None}
        return [c for c in found if (now := mark_of(c.path)) and (now.inode, now.size) not in files]

    def remove(self, contents: Iterable[Content]) -> tuple[list[str], list[str]]:
        """Remove left-over results. Return the paths removed, and those kept because their content changed.

        Raises ResourceError where the disk refuses.
        """
        removed, kept = [], []
        for content in contents:
            if not unchanged(content):
                kept.append(content.path)
                continue
            try:
                os.unlink(content.path)  # noqa: PTH108
            except OSError as exc:
                what = f"{content.path} cannot be removed"
                raise ResourceError(what, exc.strerror or str(exc), "check its permissions") from exc
            removed.append(content.path)
            with self._sound(), self._base:
                self._base.execute("delete from left_over where path = ?", (content.path,))
        return removed, kept

    @property
    def claimed(self) -> set[str]:
        """The files that belong to the job, by `FileNames.key`."""
        if self._claimed is None:
            with self._sound():
                rows = self._base.execute("select path from claim").fetchall()
                self._claimed = {self.names.key(path) for (path,) in rows}
        return self._claimed

    def owns(self, folder: Path) -> bool:
        """Return True if the job has made every file of a folder, hidden ones aside, changed or not."""
        with self._sound():
            made = self._base.execute("select path from content where made = 1")
            known = {self.names.key(path) for (path,) in made}
        inside = (path for path in folder.rglob("*") if path.is_file() and not path.name.startswith("."))
        return all(self.names.key(path) in known for path in inside)

    def claim(self, paths: Sequence[Path], step: str, *, replace: bool = False) -> None:
        """Record that a step is about to put files at `paths`.

        Raises RefusedError for a file that the job has not made, unless `replace`; for a file that another
        step of this run has made; and for a file of the job itself.
        """
        with self._turns:
            self._claim(paths, step, replace)

    def stands(self, step: str, paths: Iterable[str]) -> None:
        """Record that the results of a step are as they were."""
        rows = [(self.names.key(path), step) for path in paths]
        with self._sound(), self._base:
            self._base.executemany("insert or ignore into writer values (?, ?)", rows)

    def _claim(self, paths: Sequence[Path], step: str, replace: bool) -> None:
        shown = {self.names.key(path): str(path) for path in paths if not path.name.startswith(".")}
        for key, path in shown.items():
            if key in self._own:
                raise of_job(path)
        new = [key for key in shown if key not in self.claimed]
        if not replace:
            check_own([shown[key] for key in new])
        with self._sound(), self._base:
            self._base.executemany(
                "insert or ignore into writer values (?, ?)", [(key, step) for key in shown]
            )
            for key, path in shown.items():
                (writer,) = self._base.execute("select step from writer where path = ?", (key,)).fetchone()
                if writer != step:
                    raise _twice(path, step, writer)
            self._base.executemany("insert or ignore into claim values (?)", [(key,) for key in new])
        self.claimed.update(new)

    def close(self) -> None:
        """Let go of the state."""
        self._file.close()


def check_own(paths: Iterable[str]) -> None:
    """Raise RefusedError for a file that exists; the job has made none of `paths`."""
    foreign = next((path for path in paths if os.path.lexists(path)), None)
    if foreign is not None:
        why = "this job has not made it, and it would be overwritten"
        raise RefusedError(f"{foreign} exists", why, "add --replace, or give the step another out")


def _twice(path: str, step: str, other: str) -> RefusedError:
    what = f"step {step}: {path} is a result of step {other} too"
    return RefusedError(what, "one of the two results would be lost", "give each step its own out")


def of_job(path: str) -> RefusedError:
    """Return the error for a result that would overwrite a file of the job itself."""
    why = "the job could not be run again without it"
    return RefusedError(f"{path} is a file of the job itself", why, "give the step another out")


def _done(
    key: Any, asked: Any, seconds: Any, receipt: Any, read: list[Content], made: list[Content]
) -> DoneStep:
    """A row as what it stands for. Raises ValueError, TypeError."""
    json.loads(receipt)
    if not isinstance(asked, dict) or not all(isinstance(one["options"], dict) for one in asked.values()):
        raise ValueError("a step of it is damaged")
    return DoneStep(str(key), asked, float(seconds), receipt, tuple(read), tuple(made))


def _content(path: Any, size: Any, changed: Any, altered: Any, inode: Any, checksum: Any) -> Content:
    """A row as what it stands for. Raises ValueError."""
    mark = Mark(size, changed, altered, inode)
    if not (isinstance(path, str) and isinstance(checksum, str) and all(isinstance(n, int) for n in mark)):
        raise ValueError("a row of it is damaged")
    return Content(path, mark, checksum)
