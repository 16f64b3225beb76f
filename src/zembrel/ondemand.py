"""Modules of a package that are imported when they are first asked for, since what they need loads slowly."""

from __future__ import annotations

import importlib
import importlib.util
from collections.abc import Callable
from types import ModuleType


def on_demand(package: str) -> Callable[[str], ModuleType]:
    """A `__getattr__` for `package` (PEP 562) that imports its modules as attributes."""

    def module(name: str) -> ModuleType:
        whole = f"{package}.{name}"
        if name.startswith("_") or importlib.util.find_spec(whole) is None:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        return importlib.import_module(whole)

    return module
