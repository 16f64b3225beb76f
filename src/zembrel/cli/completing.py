"""What may stand where somebody types: verbs, options, and their values, for the completion of shells."""

from __future__ import annotations

import os
import re
import shlex
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from zembrel.verbtable import VERBS

ASKED = "ZEMBREL_COMPLETE"  # set by the scripts of shells
_LINE = "ZEMBREL_LINE"  # the line up to the cursor, from a shell that tears words at colons
_FILES = "files:"  # says that names of files are meant
_MOST = 200


class Candidate(NamedTuple):
    """A word that may stand there, and what it means."""

    word: str
    about: str = ""


def complete(shell: str, arguments: Sequence[str]) -> None:
    """Print what may stand at the end of what is typed so far: a word a line, behind a tab what it means."""
    line = os.environ.get(_LINE)
    words = _split(line) if line is not None else list(arguments) or [""]
    current = words[-1]
    torn = re.match(r".*[:=]", current) if shell == "bash" else None
    for found in candidates(words[:-1], current):
        shown = (
            found.word[len(torn[0]) :] if torn is not None and found.word.startswith(torn[0]) else found.word
        )
        print(shown if shell == "bash" else f"{shown}\t{found.about}")


def _split(line: str) -> list[str]:
    """The words of a line behind the program's name; the last one is what is being typed."""
    for quote in ("", '"', "'"):  # of which one may still be open
        try:
            words = shlex.split(line + quote)
            break
        except ValueError:
            words = line.split()
    return [*words[1:], *([""] if line.endswith(" ") or len(words) < 2 else [])]


def candidates(before: Sequence[str], current: str) -> Iterator[Candidate]:
    """What may stand behind some words, beginning with `current`; names of files are left to the shell."""
    verb = next((name for name in VERBS if list(before[: len(name.split())]) == name.split()), None)
    if verb is None:
        yield from _fitting(_verbs(before), current)
        return
    from zembrel.cli.command import command_of

    command = command_of(verb)
    given = list(before[len(verb.split()) :])
    flags = {flag: p for p in command.params for flag in (*p.opts, *p.secondary_opts) if flag.startswith("-")}
    if current.startswith("-"):
        yield from _fitting(
            (Candidate(flag, p.help or "") for flag, p in flags.items() if flag[:2] == "--"), current
        )
        return
    asking = flags.get(given[-1]) if given else None
    if asking is not None and not asking.is_flag:
        yield from _values(verb, str(asking.name), given, current)
    else:
        yield from _words(verb, given, current)


def _verbs(before: Sequence[str]) -> Iterator[Candidate]:
    """Verbs, or their second words."""
    seen = set()
    for name, row in VERBS.items():
        parts = name.split()
        if (
            list(before) == parts[: len(before)]
            and len(parts) > len(before)
            and parts[len(before)] not in seen
        ):
            seen.add(parts[len(before)])
            yield Candidate(parts[len(before)], row.summary)


def _fitting(found: Iterable[Candidate], current: str) -> Iterator[Candidate]:
    for one, _ in zip((one for one in found if one.word.startswith(current)), range(_MOST), strict=False):
        yield one


def _values(verb: str, option: str, given: Sequence[str], current: str) -> Iterator[Candidate]:
    """Values of an option."""
    if option in ("crs", "from_crs"):
        yield from _crss(current)
    elif option == "bands":
        yield from _bands(given, current)
    elif verb == "run" and option in ("only", "start"):
        yield from _fitting(_steps(given), current)
    elif option in _NAMES:
        yield from _fitting(map(Candidate, _NAMES[option]()), current)
    else:
        yield Candidate(_FILES)


def _words(verb: str, given: Sequence[str], current: str) -> Iterator[Candidate]:
    """What may stand without an option."""
    plain = [word for word in given if not word.startswith("-")]
    if verb == "source" and not plain:
        yield from _fitting(
            map(Candidate, ("add", "list", "show", "test", "set", "remove", "cache")), current
        )
    elif verb == "fetch" or (verb == "source" and plain[0] in ("show", "test", "set", "remove")):
        yield from _fitting(_sources(), current)
    elif verb == "crs" and not plain:
        yield from _fitting(map(Candidate, ("find", "show", "fit", "operations")), current)
    elif verb == "crs":
        yield from _crss(current)
    elif verb == "shell":
        yield from _fitting(map(Candidate, ("bash", "zsh", "fish", "man")), current)
    elif verb == "standin device" and not plain:
        yield from _fitting(map(Candidate, ("controller", "phone", "plotter", "engine")), current)
    else:
        yield Candidate(_FILES)


def _crss(current: str) -> Iterator[Candidate]:
    """Codes of the registry that begin so, or codes of names that hold the words."""
    from zembrel.geodesy.registry import beginning, find

    code = current.upper().removeprefix("EPSG:") if not "EPSG:".startswith(current.upper()) else ""
    for entry in find(current, _MOST) if code and not code.isdigit() else beginning(code, _MOST):
        yield Candidate(f"EPSG:{entry.code}", entry.name)


def _bands(given: Sequence[str], current: str) -> Iterator[Candidate]:
    """Names of the bands of the first file that is named, behind those that are typed already."""
    from zembrel.opened.calls import open_dataset

    file = next((word for word in given if not word.startswith("-") and Path(word).is_file()), None)
    done, comma, start = current.rpartition(",")
    if file is not None:
        bands = getattr(open_dataset(file), "bands", ())
        others = (Candidate(band.name, band.unit) for band in bands if band.name not in done.split(","))
        for found in _fitting(others, start):
            yield Candidate(f"{done}{comma}{found.word}", found.about)


def _steps(given: Sequence[str]) -> Iterator[Candidate]:
    """The steps of the job that is named."""
    from zembrel.jobs.jobfile import ENDING
    from zembrel.tomlfile import read_toml

    for word in (word for word in given if not word.startswith("-")):
        path = next((p for p in (Path(word), Path(word + ENDING)) if p.is_file()), None)
        for step in read_toml(path, "job file").get("step", ()) if path is not None else ():
            yield Candidate(str(step.get("id", "")), str(step.get("verb", "")))


def _sources() -> Iterator[Candidate]:
    from zembrel.sources.opening import known
    from zembrel.sources.sourcefile import ENDING

    for path in known():
        yield Candidate(path.name.removesuffix(ENDING))


def _methods() -> Sequence[str]:
    from zembrel.raster.method import NAMES

    return ("auto", *NAMES)


def _rules() -> Sequence[str]:
    from zembrel.raster.views.overlap import RULES

    return RULES


def _types() -> Sequence[str]:
    from zembrel.raster.model import TYPES

    return TYPES


def _formats() -> Sequence[str]:
    from zembrel.formats.catalogue import FORMATS

    return tuple(FORMATS)


_NAMES: dict[str, Callable[[], Sequence[str]]] = {
    "method": _methods, "overlap": _rules, "type": _types, "format": _formats,
    "device": lambda: ("controller", "phone", "plotter", "engine"),
    "kind": lambda: ("xyz", "tms", "wmts", "wms", "wcs", "stac", "blocks", "file", "gazetteer"),
    "of": lambda: ("slope", "aspect", "hillshade", "roughness", "ruggedness", "curvature", "position"),
    "z_unit": lambda: ("m", "ft", "usft"), "from_z_unit": lambda: ("m", "ft", "usft"),
}  # fmt: skip


def answered(arguments: Sequence[str]) -> bool:
    """Whether a shell has asked, and has its answer. What goes wrong is no candidate."""
    shell = os.environ.get(ASKED)
    if not shell:
        return False
    try:
        complete(shell, arguments)
    except Exception:
        sys.stdout.flush()
    return True
