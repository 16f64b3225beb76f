"""HDF5 files that are open: tried in a copy of the process first, since the library may never come back."""

from __future__ import annotations

import atexit
import threading
from functools import partial
from pathlib import Path
from typing import Any

from zembrel.damaged import DAMAGED
from zembrel.errors import InputError
from zembrel.handles import file_handles
from zembrel.reading import TRUST
from zembrel.runstate import Stamp
from zembrel.trial import fault_of

_SMALL = 256_000_000  # bytes of a file whose chunks are all looked for before it is opened
_open: dict[Path, tuple[Stamp, Any]] = {}
_opening = threading.Lock()


def hdf5_file(path: Path) -> Any:
    """The open file; one that changed is opened again. Raises InputError."""
    with _opening:
        return _opened(path)


def _opened(path: Path) -> Any:
    import h5netcdf
    import h5py

    stamp = file_handles.renew(path)
    held = _open.get(path)
    if held is not None and held[0] == stamp:
        return held[1]
    if held is not None:
        held[1].close()
    why = fault_of(partial(_walk, path))
    if why is not None:
        raise InputError(f"{path} is no sound NetCDF-4 or HDF5 file", why, f"get it again, or {TRUST}")
    try:
        with h5py.File(path, "r") as plain:
            _check_closed(path, plain)
            plain.attrs.get("_nc3_strict")  # h5netcdf speaks up on stderr if it fails at this
        file = h5netcdf.File(path, "r", phony_dims="access", decode_vlen_strings=True)
    except DAMAGED as exc:
        raise InputError(
            f"{path} is no sound NetCDF-4 or HDF5 file",
            f"{exc}".splitlines()[0] or "it cannot be decoded",
            "get the file again",
        ) from exc
    if not _open:
        atexit.register(_close_all)
    _open[path] = stamp, file
    return file


def _walk(path: Path) -> None:
    """Look at all that opening the file looks at, and at where its chunks lie."""
    import h5netcdf
    import h5py

    small = path.stat().st_size < _SMALL
    with h5py.File(path, "r") as plain:

        def look(name: str, held: Any) -> None:
            list(held.attrs.items())
            if small and isinstance(held, h5py.Dataset) and held.chunks:
                held.id.get_num_chunks()

        _check_closed(path, plain)
        plain.visititems(look)
    h5netcdf.File(path, "r", phony_dims="access", decode_vlen_strings=True)


def _check_closed(path: Path, file: Any) -> None:
    """Raise InputError for a file whose values lie in others: links, outside storage, virtual datasets."""
    import h5py

    def outside(name: str, held: Any) -> str | None:
        if isinstance(held, h5py.ExternalLink):
            return f"{name} is in {held.filename}"
        if isinstance(held, h5py.Dataset) and held.external:
            return f"values of {name} are in {held.external[0][0]}"
        if isinstance(held, h5py.Dataset) and held.is_virtual:
            others = [source.file_name for source in held.virtual_sources() if source.file_name != "."]
            return f"values of {name} are in {others[0]}" if others else None
        return None

    found = file.visititems_links(outside) or file.visititems(outside)
    if found:
        raise InputError(f"{path} leads to other files", found, "copy what is needed into one file")


def _close_all() -> None:
    for _, file in _open.values():
        file.close()
    _open.clear()
