"""What a step may say: the options of a verb, by the names that people type."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from zembrel.optiontext import OptionText

TEXT, NUMBER, WHOLE, FLAG = "text", "a number", "a whole number", "true or false"


class Option(NamedTuple):
    """An option: its name with underscores, what its value is, whether it takes several, and its place.

    path: parameter of the verb's function, and fields within it. text: its help; None for inputs and words.
    """

    name: str
    kind: str
    many: bool
    path: tuple[str, ...]
    text: OptionText | None = None
    default: Any = None


class Signature(NamedTuple):
    """A verb as a job file uses it.

    options: by name. lazy: the result can stay in memory. silent: the verb may write no file. revision:
    increased when results change for the same inputs. required: options that a step must have.
    """

    options: Mapping[str, Option]
    lazy: bool
    silent: bool
    revision: int
    required: tuple[str, ...] = ()


class VerbTable(NamedTuple):
    """What a job may use: the names of verbs, each one's signature, and what a word that is none may mean."""

    names: tuple[str, ...]
    of: Callable[[str], Signature]
    hint: Callable[[str], str]
