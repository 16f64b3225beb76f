"""Defaults from `zembrel.toml`: the user's, then the folder's, which wins.

Top-level keys are options of any verb; a table named like a verb holds for that verb alone. Keys are
option names with `_` or `-`.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zembrel.errors import InputError, nearest_name
from zembrel.verbtable import VERBS

NAME = "zembrel.toml"
# what is read, written and replaced is said each time
_NEVER = (
    "out",
    "inputs",
    "inputs_from",
    "replace",
    "into",
    "table",
    "index",
    "figure",
    "keep_bounds",
    "ties",
)


def defaults_for(verb: str, parameters: dict[str, str]) -> dict[str, Any]:
    """Return default values by parameter; parameters: by the name of the option.

    Raises InputError with the file, the line and the nearest name for an unknown key.
    """
    defaults: dict[str, Any] = {}
    for path in (_user_file(), Path(NAME)):
        if path is not None and path.is_file():
            defaults |= _read(path, verb, parameters)
    return defaults


def _user_file() -> Path | None:
    from platformdirs import user_config_path

    return user_config_path("zembrel") / NAME


def _read(path: Path, verb: str, parameters: dict[str, str]) -> dict[str, Any]:
    from zembrel.results.verboptions import shared_names
    from zembrel.tomlfile import check_keys, read_toml

    table = read_toml(path, "settings file")
    shared = [name for name in sorted(shared_names()) if name not in _NEVER]
    kinds = (str, int, float, bool, list)
    general = {key.replace("-", "_"): value for key, value in table.items() if not isinstance(value, dict)}
    check_keys(path, general, dict.fromkeys(shared, kinds))
    for key, value in table.items():
        if isinstance(value, dict) and key not in VERBS:
            raise InputError(
                f"{path}: [{key}] is no verb", "its options would do nothing", nearest_name(key, VERBS)
            )
    own = {key.replace("-", "_"): value for key, value in table.get(verb, {}).items()}
    allowed = [name for name in parameters if name not in _NEVER]
    check_keys(path, own, dict.fromkeys(allowed, kinds))
    return {parameters[key]: _as_typed(value) for key, value in (general | own).items() if key in parameters}


def _as_typed(value: Any) -> Any:
    if isinstance(value, list):
        return [str(item) for item in value]
    return value if isinstance(value, bool) else str(value)
