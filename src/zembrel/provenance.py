"""How a result comes about, told inside it: the steps behind it, oldest first.

A step is a verb with its options, the version of the program, what it read (names, sizes, checksums), and the
coordinate operations. What an input tells of itself comes before. Nothing of the machine, its folders or the
time is in it: the same work gives the same bytes.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.checksums import checksum_of, checksum_of_text
from zembrel.nested import json_of
from zembrel.reading import readings
from zembrel.runstate import Act

KEY = "provenance"
_MARK = "zembrel"  # key of the object that holds the steps
_LARGEST, _IN_ALL = (
    256_000_000,
    1_000_000_000,
)  # bytes of files whose checksums take no time worth speaking of
_MOST_FILES, _MOST_STEPS, _MOST_LETTERS = 100, 200, 200_000
_checksums: dict[tuple[Path, int, int], str] = {}


def document(most: int = _MOST_LETTERS) -> str | None:
    """The steps that lead to a result of the present run, as JSON; None where no verb is under way.

    most: letters that there is room for; the oldest steps go where there are more.
    """
    text = readings.told or readings.kept("provenance", _told)
    if text is None or len(text) <= most:
        return text
    lately: list[dict[str, Any]] = []
    room = most - len(_text(()))
    for step in reversed(steps_in(text)):
        room -= len(json.dumps(step)) + len(", ")
        if room < 0:
            break
        lately.insert(0, step)
    return _text(lately) if lately else None


def _text(steps: Sequence[Mapping[str, Any]]) -> str:
    return json.dumps({_MARK: 1, "steps": list(steps)})


def _told() -> str | None:
    acts, files = readings.acts, readings.own_files
    if not acts:
        return None
    earlier: list[Mapping[str, Any]] = []
    for path in files:
        earlier += readings.earlier.get(path, ())
    ends = [*(act.first for act in acts[1:]), len(files)]
    room = _IN_ALL
    steps = []
    for act, end in zip(acts, ends, strict=True):
        step, room = _step(act, files[act.first : end], room)
        steps.append(step)
    steps[-1] |= _operations()
    unlike = {json.dumps(step, sort_keys=True): step for step in (*earlier, *steps)}
    return _text(list(unlike.values())[-_MOST_STEPS:])


def found(path: Path, text: str) -> None:
    """A reader has found `text` in the file at `path`, where the steps behind that may stand."""
    steps = steps_in(text)
    if steps:
        readings.earlier[path] = steps


def steps_in(text: str) -> list[dict[str, Any]]:
    """The steps that a text tells, oldest first; none if it is about something else."""
    try:
        held = json_of(text) if text.lstrip().startswith("{") else {}
    except ValueError:
        return []
    steps = held.get("steps") if isinstance(held, dict) and held.get(_MARK) == 1 else None
    return [step for step in steps if isinstance(step, dict)] if isinstance(steps, list) else []


def _step(act: Act, files: Sequence[Path], room: int) -> tuple[dict[str, Any], int]:
    """A step for programs, and what is left of the bytes that may be read once more for checksums."""
    rows = []
    for path in files[:_MOST_FILES]:
        row, used = _row(path, room)
        rows.append(row)
        room -= used
    step = {"verb": act.verb, "version": act.version, "options": dict(act.options), "inputs": rows}
    if len(files) > _MOST_FILES:
        names = "\n".join(path.name for path in files)
        step["more_inputs"] = {"count": len(files) - _MOST_FILES, "names": checksum_of_text(names)}
    return step, room


def _row(path: Path, room: int) -> tuple[dict[str, Any], int]:
    """Name, size and checksum of a file, and the bytes that were read for that."""
    try:
        facts = path.stat()
        if path.is_dir():
            return {"name": path.name}, 0
        row: dict[str, Any] = {"name": path.name, "bytes": facts.st_size}
        if facts.st_size > min(_LARGEST, room):
            return row, 0
        mark = (path, facts.st_size, facts.st_mtime_ns)
        if mark not in _checksums:
            if len(_checksums) > 10_000:
                _checksums.clear()
            _checksums[mark] = checksum_of(path)
        return row | {"blake3": _checksums[mark]}, facts.st_size
    except OSError:
        return {"name": path.name}, 0


def _operations() -> dict[str, Any]:
    moves = [{"from": move.source, "to": move.target, "how": move.how} for move in sorted(readings.moves)]
    return {"operations": moves} if moves else {}
