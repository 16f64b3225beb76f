"""Facts of a receipt as sentences."""

from __future__ import annotations

from collections.abc import Mapping
from string import Formatter
from typing import Any

from zembrel.cli.sentences import SENTENCES
from zembrel.facts import Fact
from zembrel.measure import show_bytes, show_number


class _Words(Formatter):
    """`{n:s}` is the ending of a plural, `{n:number}` as short as exact, `{n:typed}` as an option takes it,
    `{n:bytes}` a size, `{n:list}` with commas."""

    def format_field(self, value: Any, spec: str) -> str:
        if spec == "s":
            return "" if value == 1 else "s"
        if spec == "number":
            return value if isinstance(value, str) else show_number(value)
        if spec == "bytes":
            return show_bytes(value)
        if spec == "typed":
            return f"{int(value)}" if float(value).is_integer() else repr(value).replace("nan", "NaN")
        return ", ".join(map(str, value)) if spec == "list" else str(format(value, spec))


def say_facts(facts: Mapping[str, Any]) -> str:
    """The sentence of a fact as it stands in a receipt for programs."""
    if "text" in facts:
        return str(facts["text"])
    values = {key: _plain(value) for key, value in facts.items() if key not in ("fact", "about")}
    try:
        return say(Fact(str(facts.get("fact")), tuple(values.items()), str(facts.get("about", ""))))
    except (KeyError, TypeError, ValueError):
        return str(facts.get("fact", "")).replace("_", " ")


def _plain(value: Any) -> Any:
    return tuple(map(_plain, value)) if isinstance(value, list) else value


def say(said: Fact) -> str:
    """The sentence of a fact."""
    values = dict(said.values)
    sentence = SENTENCES[said.name]
    text = sentence(values) if callable(sentence) else _Words().vformat(sentence, (), values)
    return f"{said.about}: {text}" if said.about else text
