"""The tie points that a TIFF holds itself."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from zembrel.formats.tiff import tags
from zembrel.formats.tiff.directory import read_directories
from zembrel.handles import Readable


def tie_points(path: Readable) -> npt.NDArray[np.float64]:
    """Column, row, x and y of each (GeoTIFF 1.1, clause 7.4), shape (n, 4). Raises InputError."""
    values = read_directories(path)[0].values(tags.MODEL_TIEPOINT).astype(np.float64)
    return values[: len(values) // 6 * 6].reshape(-1, 6)[:, [0, 1, 3, 4]]
