"""What is known of a verb before it is run: one record holds all of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

RASTERS, FEATURES, POINTS = "rasters", "features", "points"
EVERY = "*"  # all options of a verb
# who may call a verb: the shell, Python and job files; job files and the shell; those but no job; the shell
ALL, JOBS, RUNS, SHELL = "all", "jobs", "runs", "shell"


class Handler(NamedTuple):
    """The function that does a verb's work for one kind of data, and the verb's own options that it heeds.

    It takes what was given, where, the output and the verb's own options.
    """

    function: str
    options: str = ""

    def heeds(self, option: str) -> bool:
        return self.options == EVERY or option in self.options.split()


@dataclass(frozen=True)
class Verb:
    """A verb.

    line: what it does, in the list of verbs. work: its function, below `zembrel.verbs` or from `zembrel.` on.
    about: its help. inputs: what INPUT is. words: what it takes that is no option and no input. ways: what
    does the work for which kind of data. without: shared options that mean nothing to it. lazy: its result
    can go on as cells, without a file. each: it makes a result of each input. silent: it may make no file.
    needs_out: it does nothing without a place for the result. revision: raised by one when its results for
    the same inputs and options change (tests/jobs/test_revisions.py).
    """

    name: str
    line: str
    work: str
    about: str
    example: str
    inputs: str = "INPUT is a file, a folder or a quoted pattern."
    words: tuple[str, ...] = ()
    ways: Mapping[str, Handler] = field(default_factory=dict)
    without: tuple[str, ...] = ()
    synonyms: tuple[str, ...] = ()
    lazy: bool = False
    each: bool = False
    silent: bool = False
    needs_out: bool = True
    revision: int = 1
    called: str = ALL
