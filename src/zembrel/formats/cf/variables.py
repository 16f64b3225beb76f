"""The arrays of a container, whatever its package."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zembrel.damaged import DAMAGED
from zembrel.errors import InputError
from zembrel.reading import TRUST, readings

_MOST = 10_000
Read = Callable[[tuple[Any, ...]], npt.NDArray[Any]]


class Variable(NamedTuple):
    """One array of a container: path, dimension names, shape, type, attributes, and how to read a part."""

    name: str
    dimensions: tuple[str, ...]
    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    attributes: Mapping[str, Any]
    read: Read


Variables = Mapping[str, Variable]


def check_count(path: Path, count: int) -> None:
    """Raise InputError for a container of more variables than are looked through."""
    if count > readings.most(_MOST):
        raise InputError(
            f"{path} has more than {_MOST:,} variables", "each is looked at to find the layers", TRUST
        )


def read_part(path: Path, variable: Variable, index: tuple[Any, ...]) -> npt.NDArray[Any]:
    """A part of a variable. Raises InputError if the container cannot decode it."""
    try:
        return variable.read(index)
    except DAMAGED as exc:
        raise InputError(
            f"{path} is broken", f"{variable.name} does not decode: {exc}", "get the file again"
        ) from exc


def coordinate_of(name: str, variable: Variable, variables: Variables) -> Variable | None:
    """The coordinate variable of a dimension, in the group of `variable` or above."""
    group = variable.name.rpartition("/")[0]
    while True:
        found = variables.get(f"{group}/{name}" if group else name)
        if found is not None and len(found.shape) == 1:
            return found
        if not group:
            return None
        group = group.rpartition("/")[0]
