"""check: does a file obey the rules of its format?"""

from __future__ import annotations

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.formats import format_named, identify
from zembrel.formats.tiff.rules import CHECKS, FAULT, GOOD, STANDARDS, Item
from zembrel.verbs.inputs import find_inputs
from zembrel.verbs.options import Inputs
from zembrel.verbs.receipt import Receipt, show_table

DID_NOT_HOLD = 1  # exit code


def check(inputs: Inputs, *, rules: str | None = None, faults_only: bool = False) -> Receipt:
    """Every rule of TIFF, GeoTIFF and the cloud-optimized layout for each input, with its verdict.

    rules: names of STANDARDS, to look at those alone. The exit code is 1 if any is not obeyed. Raises
    InputError for a format whose rules are not known here, UsageError for an unknown standard.
    """
    standards = [word.strip().lower() for word in (rules or ",".join(STANDARDS)).split(",")]
    for word in standards:
        if word not in STANDARDS:
            raise UsageError(f"--rules {word}", "there are no such rules", nearest_name(word, STANDARDS))
    text, facts, bad = "", [], 0
    paths = find_inputs(inputs)
    for path in paths:
        name = identify(path)
        if name not in CHECKS:
            raise InputError(
                f"the rules of {format_named(name).title} are not checked here",
                f"{path} is one",
                "convert it to GeoTIFF, or leave it out",
            )
        items = [item for item in CHECKS[name](path) if item.standard.lower() in standards]
        faults = [item for item in items if item.verdict == FAULT]
        bad += bool(faults)
        facts.append({"path": str(path), "faults": len(faults), "items": [item._asdict() for item in items]})
        text += _text(str(path), faults if faults_only else items, len(items), len(faults))
    return Receipt("check", "", (), {"files": facts}, DID_NOT_HOLD if bad else 0, data=text)


def _text(path: str, items: list[Item], count: int, faults: int) -> str:
    verdict = f"{faults} of {count} rules not obeyed" if faults else f"all {count} rules obeyed"
    head = f"{path}: {verdict}\n"
    if not items:
        return head
    return head + show_table([[_mark(i.verdict), i.standard, i.rule, i.found] for i in items])


def _mark(verdict: str) -> str:
    return verdict if verdict == GOOD else verdict.upper()
