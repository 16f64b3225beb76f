"""NTv2 files for tests, written after the format's description."""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np

Shift = Callable[[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]


class Piece(NamedTuple):
    """A subgrid: south, north, west and east in degrees, its mesh, and shifts in seconds of (lon, lat)."""

    name: str
    parent: str
    extent: tuple[float, float, float, float]
    mesh: float
    shift: Shift


def ntv2(
    pieces: Sequence[Piece], systems: tuple[str, str] = ("MARROW36", "WGS84"), order: str = "<"
) -> bytes:
    """The bytes of a file; shifts of longitude are positive east here, and west in the file."""

    def record(name: str, value: int | float | str) -> bytes:
        if isinstance(value, str):
            packed = value.ljust(8).encode()
        else:
            packed = struct.pack(order + ("i4x" if isinstance(value, int) else "d"), value)
        return name.ljust(8).encode() + packed

    head = {
        "NUM_OREC": 11,
        "NUM_SREC": 11,
        "NUM_FILE": len(pieces),
        "GS_TYPE": "SECONDS",
        "VERSION": "ZEMBREL",
    }
    head |= {"SYSTEM_F": systems[0], "SYSTEM_T": systems[1]}
    head |= {"MAJOR_F": 6378206.4, "MINOR_F": 6356583.8, "MAJOR_T": 6378137.0, "MINOR_T": 6356752.314}
    parts = [record(name, value) for name, value in head.items()]
    for piece in pieces:
        south, north, west, east = piece.extent
        lats = np.arange(round((north - south) / piece.mesh) + 1) * piece.mesh + south
        lons = east - np.arange(round((east - west) / piece.mesh) + 1) * piece.mesh
        lon, lat = np.meshgrid(lons, lats)
        east_shift, north_shift = piece.shift(lon, lat)
        body = np.stack([north_shift, -east_shift, 0 * lon, 0 * lon], axis=-1).astype(order + "f4")
        sub = {"SUB_NAME": piece.name, "PARENT": piece.parent, "CREATED": "2026", "UPDATED": "2026"}
        sub |= {
            "S_LAT": south * 3600.0,
            "N_LAT": north * 3600.0,
            "E_LONG": -east * 3600.0,
            "W_LONG": -west * 3600.0,
        }
        sub |= {"LAT_INC": piece.mesh * 3600.0, "LONG_INC": piece.mesh * 3600.0, "GS_COUNT": lon.size}
        parts += [record(name, value) for name, value in sub.items()] + [body.tobytes()]
    return b"".join([*parts, record("END", 0)])


def plane(lon: np.ndarray, lat: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Seconds east and north that grow evenly: what lies between nodes is known exactly."""
    return 3.0 + 0.5 * (lon + 24), -2.0 + 0.25 * (lat - 46)


def constant(east: float, north: float) -> Shift:
    return lambda lon, lat: (np.full(lon.shape, east), np.full(lon.shape, north))


ISLAND = Piece("ISLAND", "NONE", (45.0, 47.0, -25.0, -23.0), 0.25, plane)


def write_ntv2(path: Path, *pieces: Piece, systems: tuple[str, str] = ("MARROW36", "WGS84")) -> Path:
    path.write_bytes(ntv2(pieces or (ISLAND,), systems))
    return path
