"""Files that belong together put in their places as one, and what a killed run left half-done settled.

No system renames several files in one step. So the old main file goes first and the new one comes last:
while it is there, all that belongs to it fits. A journal tells the next run what was under way: a result
that replaces another is completed, a new one that had not got its main file is taken back.
"""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zembrel.engine.exchange import flush, flush_names, put_new

_JOURNAL, _OLD = "journal", "old"


@dataclass(frozen=True)
class Together:
    """Files in a staging folder and their names beside it, the main one first.

    stale: names of files that belong to what is replaced and go with it; identities: of the staged files;
    fresh: whether nothing is replaced.
    """

    folder: Path
    names: tuple[str, ...]
    stale: tuple[str, ...]
    identities: tuple[int, ...]
    fresh: bool

    @classmethod
    def of(cls, folder: Path, names: Sequence[str], stale: Sequence[str], replace: bool) -> Together:
        """What is staged in `folder`; replace: whether what stands may go."""
        identities = tuple((folder / name).stat().st_ino for name in names)
        standing = any(os.path.lexists(folder.parent / name) for name in names)
        return cls(folder, tuple(names), tuple(stale), identities, not (replace and standing))

    def publish(self) -> None:
        """Put all in their places. Raises OSError; then all is as it was, or the journal stays."""
        (self.folder / _OLD).mkdir()
        text = {"names": self.names, "stale": self.stale, "identities": self.identities, "fresh": self.fresh}
        (self.folder / _JOURNAL).write_text(json.dumps(text), "utf-8")
        flush(self.folder / _JOURNAL)
        flush_names(self.folder)
        try:
            self._forward()
        except BaseException:
            self._backward()
            self._end()
            raise
        self._end()

    def settle(self) -> None:
        """Go on where a run was killed."""
        if self.fresh and (self.folder / self.names[0]).exists():
            self._backward()
        else:
            self._forward()
        self._end()

    def _end(self) -> None:
        """Nothing is under way any more. A journal that stays finds nothing left to do."""
        with suppress(OSError):
            (self.folder / _JOURNAL).unlink()

    def _forward(self) -> None:
        main, *others = self.names
        for name in (main, *others, *self.stale):
            staged, final, old = self.folder / name, self.folder.parent / name, self.folder / _OLD / name
            due = not self.fresh and (name in self.stale or staged.exists()) and not os.path.lexists(old)
            if due and os.path.lexists(final):
                final.rename(old)
        for name in (*others, main):
            if (self.folder / name).exists():
                put_new(self.folder / name, self.folder.parent / name)
        flush_names(self.folder.parent)

    def _backward(self) -> None:
        for name, identity in zip(self.names, self.identities, strict=True):
            staged, final = self.folder / name, self.folder.parent / name
            if not staged.exists() and final.exists() and final.stat().st_ino == identity:
                final.rename(staged)
        main, *others = self.names
        for name in (*others, *self.stale, main):
            old, final = self.folder / _OLD / name, self.folder.parent / name
            if os.path.lexists(old) and not os.path.lexists(final):
                old.rename(final)
        flush_names(self.folder.parent)


def unsettled(folder: Path) -> bool:
    """Whether something is under way in a staging folder: what stood before may be in it alone."""
    return os.path.lexists(folder / _JOURNAL)


def settle(folder: Path) -> None:
    """Complete, or take back, what was under way in a staging folder whose run is gone. Raises OSError."""
    if not unsettled(folder):
        return
    try:
        found: dict[str, Any] = json.loads((folder / _JOURNAL).read_text("utf-8"))
        names, stale, identities = (tuple(found[key]) for key in ("names", "stale", "identities"))
        fresh = bool(found["fresh"])
    except (ValueError, KeyError, TypeError):
        return  # the journal was not whole, so that nothing had been moved
    if all(Path(name).name == name for name in (*names, *stale)):
        Together(folder, names, stale, identities, fresh).settle()
