"""The record of a verb: everything that is fixed before the verb runs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

RASTERS, FEATURES, POINTS = "rasters", "features", "points"
EVERY = "*"  # all options of a verb
# who may call a verb: everyone; the shell and job files; the shell and Python; the shell only
ALL, JOBS, RUNS, SHELL = "all", "jobs", "runs", "shell"


class Handler(NamedTuple):
    """The function of a verb for one kind of data, and the verb's own options that it uses.

    The function takes the inputs, `Where`, `Output` and the verb's own options.
    """

    function: str
    options: str = ""

    def uses(self, option: str) -> bool:
        return self.options == EVERY or option in self.options.split()


@dataclass(frozen=True)
class Verb:
    """A verb of the command line.

    summary: one line for the list of verbs. function: its path, relative to `zembrel.verbs` or starting with
    `zembrel.`. input_word, inputs: the inputs in the usage line, and a sentence about them. arguments: names
    of positional arguments that are no inputs. handlers: the function for each kind of data. ignored_options:
    shared options that are hidden and rejected. lazy: the result can stay in memory. each: one result per
    input. silent: the verb may write no file. needs_out: it requires --out. revision: increase it when the
    results for the same inputs and options change (see tests/jobs/test_revisions.py).
    """

    name: str
    summary: str
    function: str
    help: str
    example: str
    input_word: str = "INPUT..."
    inputs: str = "INPUT is a file, a folder or a quoted pattern."
    arguments: tuple[str, ...] = ()
    handlers: Mapping[str, Handler] = field(default_factory=dict)
    ignored_options: tuple[str, ...] = ()
    synonyms: tuple[str, ...] = ()
    lazy: bool = False
    each: bool = False
    silent: bool = False
    needs_out: bool = True
    revision: int = 1
    callers: str = ALL
