"""Receipts and errors as people and programs read them. Text is printed as it is, never as markup."""

from __future__ import annotations

import json as json_format
import math
import os
import sys
import tempfile
import traceback
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.cli.style import lead
from zembrel.errors import ZembrelError
from zembrel.redaction import redact

_GAP = "   "
_SHOWN_LOSSES = 5


def show_receipt(receipt: Any, *, json: bool, quiet: bool, verbose: bool) -> None:
    """Data and JSON to stdout, the receipt to stderr."""
    if json:
        print(
            json_format.dumps(_plain({"verb": receipt.verb, **receipt.facts, **_worded(receipt)}), indent=2)
        )
        return
    if receipt.data is not None:
        lines = receipt.data.split("\n")
        sys.stdout.write("\n".join(map(_printable if receipt.plain else redact, lines)))
    if not quiet and (receipt.data is None or receipt.results or receipt.chose):
        print(_text(receipt, verbose), file=sys.stderr)


def _worded(receipt: Any) -> dict[str, Any]:
    """What was chosen, checked and lost, for programs and in words."""
    from zembrel.cli.saying import say

    lists = {"chose": receipt.chose, "checks": receipt.checks, "losses": receipt.losses}
    said = {key: [{"text": say(item), **item.facts} for item in items] for key, items in lists.items()}
    return {key: items for key, items in said.items() if key in receipt.facts}


def note(text: str) -> None:
    """What is about to take long, to stderr, so that nobody waits in the dark."""
    print(f"{lead('note:', 7)}{text}", file=sys.stderr, flush=True)


def step(facts: Mapping[str, Any]) -> None:
    """A step of a job that has ended, to stderr."""
    from zembrel.cli.jobwording import step_line

    if facts["state"] == "unchanged":
        return
    number = f"{facts['number']:>{len(str(facts['of']))}} of {facts['of']}"
    print(f"{lead('step', 7)}{_printable(f'{number}   {step_line(facts)}')}", file=sys.stderr, flush=True)


def _text(receipt: Any, verbose: bool) -> str:
    from zembrel.cli.wording import lines_of, title_of

    lines: list[tuple[str, Sequence[str]]] = [(receipt.verb, [title_of(receipt)])]
    if verbose:
        lines += [("read", [str(path)]) for path in receipt.inputs]
    lines += lines_of(receipt)
    width = max(9, *(len(word) + 2 for word, _ in lines))
    room = os.get_terminal_size(sys.stderr.fileno()).columns - width if sys.stderr.isatty() else sys.maxsize
    shown = []
    for word, items in lines:
        first, *rest = _broken([_printable(item) for item in items], room)
        shown += [lead(word, width) + first, *(" " * width + line for line in rest)]
    return "\n".join(shown)


def _broken(items: list[str], room: int) -> list[str]:
    """Items in lines of at most `room` characters, broken between items alone."""
    lines = [items[0]]
    for item in items[1:]:
        if len(lines[-1]) + len(_GAP) + len(item) <= room:
            lines[-1] += _GAP + item
        else:
            lines.append(item)
    return lines


def show_error(error: ZembrelError, json: bool) -> None:
    """Three lines to stderr, or one JSON object to stdout."""
    if json:
        facts = {"error": error.what, "why": error.why, "try": error.remedy, "exit": error.exit_code}
        print(json_format.dumps(facts, indent=2))
        return
    for word, text in (("error:", error.what), ("why:", error.why), ("try:", error.remedy)):
        print(lead(word, 7) + _printable(text), file=sys.stderr)


def bug(error: Exception, arguments: list[str], code: int) -> int:
    """Keep a short report of a fault of ours and say where it is."""
    with tempfile.NamedTemporaryFile("w", prefix="zembrel-report-", suffix=".txt", delete=False) as file:
        file.write("zembrel " + " ".join(map(_told, arguments)) + "\n\n")
        file.write(redact("".join(traceback.format_exception(error))))
    what = f"a fault of Zembrel's own: {type(error).__name__}: {error}"
    show_error(
        ZembrelError(what, "nothing half-written remains", f"send us {Path(file.name)}"),
        "--json" in arguments,
    )
    return code


def _told(word: str) -> str:
    from zembrel.results.record import told

    return str(told(word))


def _printable(text: str) -> str:
    """Control characters, which could steer a terminal, as visible escapes; one line."""
    text = redact(text)
    return "".join(c if c.isprintable() or c == "\t" else c.encode("unicode_escape").decode() for c in text)


def _plain(value: Any) -> Any:
    """`value` with everything JSON has no word for as text."""
    if isinstance(value, dict):
        return {str(key): _plain(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(inner) for inner in value]
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    if isinstance(value, int | float | bool | None):
        return value
    return redact(str(value))
