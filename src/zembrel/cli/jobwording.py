"""Jobs in words: why steps run, and what became of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from zembrel.measure import show_bytes
from zembrel.results.receipt import Receipt

Values = Mapping[str, Any]
_SHOWN, _OF_EACH = 40, 3  # lines of a plan; of them, of the instances of one step


def _options(v: Values) -> str:
    return f"{', '.join(v['options'])} changed"


JOBS: dict[str, str | Callable[[Values], str]] = {
    "after_step": "after {step}",
    "files_changed": "{path} came or went in {word}",
    "input_altered": "{path} changed",
    "inputs_changed": "other inputs",
    "needs_step": "{step} was not done",
    "options_changed": _options,
    "program_changed": "{verb} works otherwise in this version",
    "receipt_of": "{steps} step{steps:s}, {pictures} picture{pictures:s}",
    "result_altered": "{path} was altered",
    "result_gone": "{path} is gone",
    "step_forced": "asked for",
    "step_new": "not done before",
    "verb_changed": "{step} is {verb} now",
}


def step_line(row: Values) -> str:
    """`web   reproject @island -> web.tif   ran in 4.2 s, 211 MB: ortho/m3.tif changed`."""
    id, what, state = _columns(row)
    return f"{id:<14}   {what}   {state}"


def _columns(row: Values) -> tuple[str, str, str]:
    out = f" -> {row['out']}" if "out" in row else ""
    verbs = " + ".join([one["verb"] for one in row.get("with", [])] + [row["verb"]])
    return row["id"], f"{' '.join(filter(None, (verbs, _inputs(row['inputs']))))}{out}", _state(row)


def _inputs(words: Sequence[str]) -> str:
    return ", ".join(words[:2]) + " ..." * (len(words) > 2)


def _state(row: Values) -> str:
    why = _why(row.get("why"))
    reason = f": {why}" if row.get("why", {}).get("fact") != "step_new" else ""
    state = row["state"]
    if state == "ran":
        size = f", {show_bytes(row['bytes'])}" if row.get("bytes") else ""
        return f"in {row['seconds']:.1f} s{size}{reason}"
    if state == "to run":
        most = f"at most {show_bytes(row['bytes_at_most'])}, " if "bytes_at_most" in row else ""
        return f"{most}{why}" if most or why else "to run"
    why = row.get("error") or row.get("empty") or why
    return f"{state}: {why}" if why else state


def _why(facts: Values | None) -> str:
    if facts is None:
        return ""
    sentence = JOBS[facts["fact"]]
    return sentence(facts) if callable(sentence) else sentence.format(**facts)


def job_title(row: Values, path: str) -> str:
    """`island.job.toml   The island, every month`."""
    return f"{path}   {row['title']}" if row["title"] else path


def job_lines(receipt: Receipt) -> Iterator[tuple[str, Sequence[str]]]:
    """What ran and what stood; of a plan, each step with what would be."""
    if "removed" in receipt.own:
        yield from _cleaned(receipt.own)
        return
    steps: Sequence[Values] = receipt.own["steps"]
    states = dict.fromkeys(row["state"] for row in steps)
    counts = {state: sum(row["state"] == state for row in steps) for state in states}
    inside = sum(len(row.get("with", ())) for row in steps)
    said = [f"{len(steps):,} step{'s' * (len(steps) != 1)}"]
    said += [f"{count:,} {state}" for state, count in counts.items()]
    said += [f"{inside:,} more in one pass with others"] if inside else []
    yield "steps", said
    if receipt.planned:
        yield from (("", (line,)) for line in _plan(steps))
    yield from _left_over(receipt.own["left_over"], whole=receipt.planned)
    made = sum(row.get("bytes", 0) for row in steps if row["state"] == "ran")
    wrote = [show_bytes(made), f"in {receipt.seconds or 0:.1f} s"] if made else []
    yield "wrote", wrote or [f"{name} {path}" for name, path in receipt.products.items() if receipt.planned]


def _cleaned(own: Values) -> Iterator[tuple[str, Sequence[str]]]:
    """What --clean did."""
    removed, changed = own["removed"], own["changed"]
    yield "removed", [f"{len(removed):,} result{'s' * (len(removed) != 1)} that the job no longer makes"]
    yield from (("kept", (path, "changed since the job made it")) for path in changed)


def _left_over(paths: Sequence[str], *, whole: bool) -> Iterator[tuple[str, Sequence[str]]]:
    """Results that the job no longer makes: how many, and in a plan which."""
    if paths:
        many = f"{len(paths):,} result{'s' * (len(paths) != 1)} that the job no longer makes"
        yield "left", [many, "remove with --clean"]
        yield from (("", (path,)) for path in (paths[:_SHOWN] if whole else ()))
        if whole and len(paths) > _SHOWN:
            yield "", (f"... {len(paths) - _SHOWN:,} more",)


def _plan(rows: Sequence[Values]) -> Iterator[str]:
    """A line for each step; of many instances of one, the first ones."""
    shown: list[tuple[str, str, str]] = []
    for name in dict.fromkeys(row["name"] for row in rows):
        own = [row for row in rows if row["name"] == name]
        few = own if len(rows) <= _SHOWN else own[:_OF_EACH]
        shown += [_columns(row) for row in few]
        shown += [(f"... {len(own) - len(few):,} more of {name}", "", "")] if len(few) < len(own) else []
    widths = [max(len(columns[n]) for columns in shown) for n in range(2)]
    for one, two, three in shown:
        yield f"{one:<{widths[0]}}   {two:<{widths[1]}}   {three}".rstrip()
