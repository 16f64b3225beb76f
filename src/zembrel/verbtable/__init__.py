"""The verbs, in the order of the work, one record each. The command line, Python and job files read it.

Nothing heavy may be imported here: this is all that `zembrel --help` needs.
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
# words that are typed as verbs, and the option that makes it
_OPTIONS_OF = {
    word: f"terrain INPUT --of {word} --out PATH"
    for word in ("slope", "aspect", "hillshade", "roughness", "ruggedness", "curvature", "position")
} | {"shadows": "terrain INPUT --of hillshade --cast --out PATH"}


def called_by(*callers: str) -> dict[str, Verb]:
    """Return the verbs that these callers of `record` may call."""
    return {name: verb for name, verb in VERBS.items() if verb.called in callers}


def hint(word: str) -> str | None:
    """Return what a synonym of the trade means: the verb, or with it the option that makes that."""
    known = next((name for name, verb in VERBS.items() if word.lower() in verb.synonyms), None)
    return known or _OPTIONS_OF.get(word.lower())
