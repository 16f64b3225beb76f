"""NetCDF of version 3: classic, 64-bit offset and CDF-5, by way of the NetCDF package.

Source: "NetCDF Classic Format Specification" (Unidata). The package's library is not made for threads: one
lock keeps them apart.
"""

from __future__ import annotations

import threading
from functools import lru_cache, partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from zembrel.errors import InputError
from zembrel.formats.cf.variables import Variable, Variables, check_count
from zembrel.handles import file_handles
from zembrel.runstate import Stamp

MARKS = (b"CDF\x01", b"CDF\x02", b"CDF\x05")
_lock = threading.Lock()


@lru_cache(maxsize=16)
def _opened(path: Path, stamp: Stamp) -> Any:
    import netCDF4

    try:
        file = netCDF4.Dataset(path, "r")
    except (OSError, RuntimeError, UnicodeDecodeError) as exc:
        raise InputError(
            f"{path} is no sound NetCDF file", f"{exc}".splitlines()[0], "get the file again"
        ) from exc
    file.set_auto_maskandscale(False)
    return file


def variables_of(path: Path) -> tuple[Variables, dict[str, Any]]:
    """Every array of the file by its name, and the attributes of the file. Raises InputError."""
    with _lock:
        file = _opened(path, file_handles.renew(path))
        check_count(path, len(file.variables))
        found = {
            name: Variable(
                name,
                tuple(held.dimensions),
                tuple(held.shape),
                np.dtype(held.dtype) if held.dtype is not str else np.dtype(object),
                {key: held.getncattr(key) for key in held.ncattrs()},
                partial(_part, path, name),
            )
            for name, held in file.variables.items()
        }
        return found, {key: file.getncattr(key) for key in file.ncattrs()}


def _part(path: Path, name: str, index: tuple[Any, ...]) -> npt.NDArray[Any]:
    with _lock:
        file = _opened(path, file_handles.renew(path))
        return np.asarray(file.variables[name][index])
