"""What a run chose, checked or could not keep: facts by name, with values. The command line words them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple


class Fact(NamedTuple):
    """A fact by name, its values by name, and the one of several layers or results that it is about."""

    name: str
    values: tuple[tuple[str, Any], ...] = ()
    about: str = ""

    @property
    def facts(self) -> dict[str, Any]:
        """The fact for programs."""
        return {"fact": self.name, **({"about": self.about} if self.about else {}), **dict(self.values)}


def fact(name: str, /, **values: Any) -> Fact:
    """The fact called `name`. Values are plain: numbers (those of arrays too), texts, tuples of these."""
    return Fact(name, tuple((key, _plain(value)) for key, value in values.items()))


def _plain(value: Any) -> Any:
    """A number of an array as a plain one, all else as it is."""
    return value.item() if hasattr(value, "item") else value


def remarks(texts: Iterable[str]) -> tuple[Fact, ...]:
    """What a reader, or a way between two CRSs, says of itself."""
    return tuple(fact("remark", text=text) for text in texts)


def distinct(said: Iterable[Fact]) -> tuple[Fact, ...]:
    """What is said, each thing once."""
    return tuple(dict.fromkeys(said))
