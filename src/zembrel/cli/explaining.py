"""What holds for options that nobody gave: which defaults are taken for these inputs, and why."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from zembrel.cli.saying import say
from zembrel.results.phrases import frame_items, show_table
from zembrel.results.receipt import Receipt

_SAID = {"COMMANDLINE": "given", "DEFAULT_MAP": "zembrel.toml", "ENVIRONMENT": "given"}
_DEFAULT = re.compile(r"\s*Default: (.+?)\.$")  # how help states a default
_ASIDE = ("help", "json", "quiet", "verbose", "progress", "explain", "dry_run", "inputs", "words", "action")


def explained(receipt: Receipt, context: Any) -> Receipt:
    """A planned run with every option of its verb: who says it, its value, and what that means."""
    rows = [("option", "value", "says", "means")]
    rows += _rows(context.command.params, context)
    frame = [f"frame: {'   '.join(frame_items(receipt.frame))}\n"] if receipt.frame is not None else []
    chosen = [f"  {say(item)}\n" for item in receipt.chose]
    lines = [*frame, *(["chosen for these inputs:\n", *chosen] if chosen else []), "\n" * bool(chosen)]
    lines += [show_table(rows)]
    own = {"options": [dict(zip(("option", "value", "says", "means"), row, strict=True)) for row in rows[1:]]}
    return replace(receipt, data="".join(lines), own={**receipt.own, **own}, results=(), chose=())


def _rows(params: Sequence[Any], context: Any) -> Iterator[tuple[str, str, str, str]]:
    """Options that are said first, then the others in the order of the help."""
    rows = []
    for param in params:
        if param.name in _ASIDE or not param.opts[0].startswith("-"):
            continue
        source = _SAID.get(context.get_parameter_source(param.name).name, "default")
        value = _shown(context.params.get(param.name), param)
        rows.append((max(param.opts, key=len), value, source, _means(param)))
    yield from sorted(rows, key=lambda row: row[2] == "default")


def _shown(value: Any, param: Any) -> str:
    told = _DEFAULT.search(param.help or "")
    if value is None or value == () or value == []:
        return told[1] if told else "not said"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)


def _means(param: Any) -> str:
    return _DEFAULT.sub("", param.help or "")
