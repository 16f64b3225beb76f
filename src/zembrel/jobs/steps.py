"""Steps of a job as they are run: variables filled in, one for each value of the matrix that they mention."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from zembrel.jobs.mistakes import Spot

REFERENCE = re.compile(r"(?P<lead>[A-Za-z_]\w*=)?@(?P<name>[^/*]*)(?P<every>\*?)(?P<rest>/.*)?")


FAIL, SKIP, WRITE = "fail", "skip", "write"
WHEN_EMPTY = (FAIL, SKIP, WRITE)


class MadeBy(NamedTuple):
    """The result of another step: its id, a path within it if it is a folder, and what stands before it."""

    step: str
    rest: str = ""
    lead: str = ""


@dataclass(frozen=True)
class JobStep:
    """What to do. id: with the values of the matrix in brackets; name: without; options: by typed name;
    after: steps that make what it names by path; when_empty: what is done where there is nothing to do."""

    id: str
    name: str
    verb: str
    inputs: tuple[str | MadeBy, ...]
    options: Mapping[str, Any]
    spot: Spot
    after: tuple[str, ...] = ()
    when_empty: str = FAIL

    @property
    def out(self) -> str | None:
        """Where its result goes; None if it goes on to other steps alone, or nowhere."""
        out = self.options.get("out")
        return None if out is None else str(out)

    @property
    def made(self) -> Iterator[MadeBy]:
        """The results of other steps that it uses."""
        for value in (self.inputs, *self.options.values()):
            for inner in value if isinstance(value, tuple) and not isinstance(value, MadeBy) else (value,):
                if isinstance(inner, MadeBy):
                    yield inner

    @property
    def needs(self) -> tuple[str, ...]:
        """The steps whose results it uses, each once."""
        return tuple(dict.fromkeys((*(made.step for made in self.made), *self.after)))

    @property
    def texts(self) -> Iterator[tuple[str, str]]:
        """Names and values of inputs and options that are texts."""
        yield from (("inputs", word) for word in self.inputs if isinstance(word, str))
        for name, value in self.options.items():
            for inner in value if isinstance(value, tuple) and not isinstance(value, MadeBy) else (value,):
                if isinstance(inner, str):
                    yield name, inner


@dataclass(frozen=True)
class JobPlan:
    """A job file: its title, and its steps in an order in which each comes after those it needs."""

    title: str
    steps: tuple[JobStep, ...]
    spot: Spot

    def step(self, id: str) -> JobStep:
        """The step of that id."""
        return next(step for step in self.steps if step.id == id)
