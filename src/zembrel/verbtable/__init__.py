"""One record per verb, in the order of the work, for the command line, Python and job files.

Import nothing heavy here: `zembrel --help` imports this package only.
"""

from __future__ import annotations

from zembrel.verbtable import (
    bringing,
    changing,
    checking,
    delivering,
    deriving,
    looking,
    placing,
    repeating,
    shaping,
    starting,
)
from zembrel.verbtable.record import Verb

STEPS: dict[str, tuple[Verb, ...]] = {
    "Look at what came in": looking.VERBS,
    "Say where and how fine": placing.VERBS,
    "Bring the pieces together": bringing.VERBS,
    "Change the grid": changing.VERBS,
    "Derive": deriving.VERBS,
    "Go from cells to shapes and back": shaping.VERBS,
    "Check and show": checking.VERBS,
    "Deliver": delivering.VERBS,
    "Do it again": repeating.VERBS,
    "Start here": starting.VERBS,
}
VERBS: dict[str, Verb] = {verb.name: verb for verbs in STEPS.values() for verb in verbs}
# words that users type as verbs, and the command for them
_COMMANDS_FOR = {
    word: f"terrain INPUT --of {word} --out PATH"
    for word in ("slope", "aspect", "hillshade", "roughness", "ruggedness", "curvature", "position")
} | {"shadows": "terrain INPUT --of hillshade --cast --out PATH"}


def called_by(*callers: str) -> dict[str, Verb]:
    """Return the verbs for these callers (constants of `record`)."""
    return {name: verb for name, verb in VERBS.items() if verb.callers in callers}


def hint(word: str) -> str | None:
    """Return the verb, or the command, that a common synonym stands for; None for other words."""
    known = next((name for name, verb in VERBS.items() if word.lower() in verb.synonyms), None)
    return known or _COMMANDS_FOR.get(word.lower())
