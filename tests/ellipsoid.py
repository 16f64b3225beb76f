"""Distances along the ellipsoid of WGS 84 by chords through it: they share no code with what is tested."""

from __future__ import annotations

from typing import Any

import numpy as np

A, F = 6378137.0, 1 / 298.257223563
SQUARED = F * (2 - F)


def distances(crs: Any, x: np.ndarray, y: np.ndarray, to_x: np.ndarray, to_y: np.ndarray) -> np.ndarray:
    """Metres between places of a CRS, good to a millimetre up to 20 km: arcs are longer by a known little."""
    chord = np.linalg.norm(_in_space(crs, x, y) - _in_space(crs, to_x, to_y), axis=0)
    return chord * (1 + chord**2 / (24 * 6_378_000.0**2))


def _in_space(crs: Any, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    lon, lat = crs.to_geographic(x, y)
    across = A / np.sqrt(1 - SQUARED * np.sin(lat) ** 2)
    return np.stack([across * np.cos(lat) * np.cos(lon), across * np.cos(lat) * np.sin(lon),
                     across * (1 - SQUARED) * np.sin(lat)])  # fmt: skip
