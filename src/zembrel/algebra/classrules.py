"""Classes by conditions: the first that holds counts."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

from zembrel.algebra.classing import VOID, Classing, Made, band_of_codes
from zembrel.algebra.codetable import check_code
from zembrel.algebra.operands import NamedFormula, Operands, computed
from zembrel.errors import UsageError
from zembrel.expression.formula import Condition, Formula, parse_condition
from zembrel.expression.tree import Call, Constant, Node
from zembrel.facts import fact
from zembrel.raster.views.classed import Chosen

_RULE = re.compile(r"\s*(?:(-?\d+)(?=\s|:|$))?\s*([^:]*?)\s*(?::(.*))?", re.DOTALL)


_MOST = 60  # rules


class Rule(NamedTuple):
    """A class and the condition for it."""

    code: int
    name: str
    condition: Condition | None


def parse_rules(rules: str | Sequence[str], otherwise: str | None) -> list[Rule]:
    """Rules in their order, the class of the rest last if there is one. Raises UsageError."""
    texts = [rules] if isinstance(rules, str) else rules
    if len(texts) > _MOST:
        raise UsageError(f"{len(texts)} rules", f"{_MOST} at most are followed", "use --codes, or two runs")
    found = [(text, _RULE.fullmatch(text)) for text in texts]
    rest = None if otherwise in (None, VOID) else _RULE.fullmatch(str(otherwise))
    parts = [(text, match) for text, match in found] + ([(str(otherwise), rest)] if rest else [])
    used = {int(match[1]) for _, match in parts if match and match[1]}
    free = (code for code in range(1, 65_536) if code not in used)
    made = []
    for text, match in parts:
        last = match is rest
        if match is None or (not last and not (match[3] or "").strip()) or (last and match[3]):
            raise UsageError(
                f"{'--otherwise' if last else '--rule'} {text!r}",
                "a class is a name, a code before it if you like, and after a colon its condition",
                "write --rule 'flat: slope < 3'" if not last else "write --otherwise rest",
            )
        code = int(match[1]) if match[1] else next(free)
        check_code(code)
        made.append(Rule(code, match[2], None if last else parse_condition(match[3])))
    if len({rule.code for rule in made}) < len(made):
        raise UsageError(
            "two rules have one code", "classes are told apart by their codes", "give each its own"
        )
    return made


def ruled(operands: Operands, rules: Sequence[Rule], classing: Classing) -> Made:
    """The class of the first condition that holds. Raises UsageError for names that mean nothing."""
    conditions = [rule for rule in rules if rule.condition is not None]
    for rule in conditions:  # so that an error tells the character of its own rule
        computed(operands, [NamedFormula(rule.name, rule.condition)])  # type: ignore[arg-type]
    last = next((rule.code for rule in rules if rule.condition is None), None)
    nothing = None if last is not None else max(rule.code for rule in rules) + 1
    tree: Node = Constant(0, last if last is not None else nothing)
    for rule in reversed(conditions):
        assert rule.condition is not None
        tree = Call(0, "where", (rule.condition.tree, Constant(0, rule.code), tree))
    text = "; ".join(str(rule.condition) for rule in conditions)
    source, said = computed(operands, [NamedFormula("class", Formula(text, tree))])
    entries = [(rule.code, rule.name, None) for rule in rules]
    made = band_of_codes("class", [rule.code for rule in rules], entries, classing)
    made = replace(made, type=source.bands[0].type)
    return Made(
        Chosen(source, made, nothing),
        (fact("first_rule", classes=len(rules)), *said),
    )
