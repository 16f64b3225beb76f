"""The one error family. Whatever else escapes is a bug of ours.

ZembrelError
├── CheckError      1  a check or comparison did not hold
├── UsageError      2  what was asked for is wrong
├── InputError      3  an input is missing, broken or not supported
├── RefusedError    4  would overwrite, pass a ceiling or lose values
└── ResourceError   5  the disk or another resource failed
"""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

from zembrel.redaction import redact


class ZembrelError(Exception):
    """What happened, why that stops the work, and what to do about it: three plain sentences."""

    exit_code = 70

    def __init__(self, what: str, why: str, remedy: str) -> None:
        self.what, self.why, self.remedy = redact(what), redact(why), redact(remedy)
        super().__init__(self.what)

    def __reduce__(self) -> tuple[type[ZembrelError], tuple[str, str, str]]:
        return type(self), (self.what, self.why, self.remedy)


class CheckError(ZembrelError):
    """A check or comparison did not hold."""

    exit_code = 1


class UsageError(ZembrelError):
    """What was asked for is wrong, whatever the inputs hold."""

    exit_code = 2


class InputError(ZembrelError):
    """An input is missing, broken or not supported."""

    exit_code = 3


class RefusedError(ZembrelError):
    """Going on would overwrite, pass a ceiling or lose values."""

    exit_code = 4


class RemoteError(ZembrelError):
    """A server does not give what it is asked for."""

    exit_code = 6


class ResourceError(ZembrelError):
    """The disk or another resource failed."""

    exit_code = 5


class EmptyInputError(InputError):
    """Nothing of the inputs is what is asked for."""


class EmptyResultError(RefusedError):
    """A result would hold nothing."""


class EmptySourceError(RemoteError):
    """A source has nothing in the area."""


EMPTY = (EmptyInputError, EmptyResultError, EmptySourceError)  # of work that finds nothing to do


def nearest_name(wanted: str, known: Iterable[str]) -> str:
    """Phrase that offers the near miss of `wanted`, else lists what is `known`."""
    names = sorted(known)
    close = get_close_matches(wanted, names, n=1, cutoff=0.6)
    return f"did you mean {close[0]}?" if close else "known are " + ", ".join(names)


def out_of_memory(count: int) -> ResourceError:
    """The error for `count` bytes (0: nobody knows how many) that there is no room for."""
    return ResourceError(
        f"there is no memory for {count:,} bytes" if count else "there is not enough memory",
        "a file may claim more than it holds, or too much runs here at once",
        "check the file, add --memory 64MB or --workers 1, or end other programs",
    )
