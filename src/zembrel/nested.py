"""Texts of values in values, which may lie too deep in each other for their readers."""

from __future__ import annotations

import json
import tomllib
from typing import Any

_TOO_DEEP = "its values lie too deep in each other"


def json_of(text: str | bytes) -> Any:
    """What a text in JSON says. Raises ValueError."""
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError(_TOO_DEEP) from None


def toml_of(text: str) -> dict[str, Any]:
    """What a text in TOML says. Raises ValueError."""
    try:
        return tomllib.loads(text)
    except RecursionError:
        raise ValueError(_TOO_DEEP) from None
