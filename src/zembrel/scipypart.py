"""SciPy, at first use."""

from __future__ import annotations

import importlib
import sys
from typing import Any

_HELD_BACK = "scipy.linalg.cython_blas"  # the command line keeps Numba from importing it, which takes long


def scipy(part: str) -> Any:
    """The module `scipy.part`."""
    if sys.modules.get(_HELD_BACK, sys) is None:
        del sys.modules[_HELD_BACK]
    return importlib.import_module(f"scipy.{part}")
