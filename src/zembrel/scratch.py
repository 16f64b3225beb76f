"""Folders for what a run keeps on the disk for a while, which other processes can find and never remove."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.owned import temporary


class Scratch:
    """A new folder that goes with this object. A copy in another process knows where it is, no more."""

    def __init__(self) -> None:
        self._owned = temporary()
        self.path = self._owned.path

    def __getstate__(self) -> dict[str, Path]:
        return {"path": self.path}

    def array(self, name: str, dtype: npt.DTypeLike, shape: tuple[int, ...]) -> ScratchArray:
        """A new array of zeros in a file of the folder."""
        made = ScratchArray(self, name, np.dtype(dtype), shape)
        with (self.path / name).open("wb") as file:
            file.truncate(int(np.prod(shape)) * made.dtype.itemsize)
        return made


@dataclass(frozen=True)
class ScratchArray:
    """An array in a file, which each process maps for itself."""

    scratch: Scratch
    name: str
    dtype: np.dtype[Any]
    shape: tuple[int, ...]

    @cached_property
    def values(self) -> npt.NDArray[Any]:
        """The array; what is written into it is in the file."""
        return np.memmap(self.scratch.path / self.name, self.dtype, "r+", shape=self.shape)

    def __getstate__(self) -> dict[str, Any]:
        return {name: value for name, value in vars(self).items() if name != "values"}
