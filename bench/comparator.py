"""The plain way to reproject, with general packages: decode all, remap all, encode all.

Usage: comparator.py SOURCE RESULT bilinear|lanczos. Coordinates are exact every 32 cells and
interpolated between them; two threads for every step; the result lands on the same frame as ours.
"""

from __future__ import annotations

import sys
from pathlib import Path

import cv2
import numpy as np
import tifffile

from zembrel.formats import open_raster
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_bounds, carried_cell
from zembrel.grid.frame import Frame, snapped

STEP = 32
METHODS = {"bilinear": cv2.INTER_LINEAR, "lanczos": cv2.INTER_LANCZOS4}


def positions(source: Frame, target: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Source column and row of every target cell, float32."""
    down, across = -(-target.rows // STEP) + 2, -(-target.columns // STEP) + 2
    cols, rows = np.meshgrid(
        np.arange(across) * STEP - STEP / 2 - 0.5, np.arange(down) * STEP - STEP / 2 - 0.5
    )
    x, y = operation(target.crs, source.crs)(*target.centres(cols, rows))
    lattice = source.corners.position(x, y)
    size = across * STEP, down * STEP
    inside = slice(STEP, STEP + target.rows), slice(STEP, STEP + target.columns)
    return tuple(
        cv2.resize((axis - 0.5).astype(np.float32), size, interpolation=cv2.INTER_LINEAR)[inside]
        for axis in lattice
    )


def main(source: Path, result: Path, method: str) -> None:
    cv2.setNumThreads(2)
    frame = open_raster(source).frame
    crs = by_code(32627)
    target = snapped(crs, carried_bounds(frame, crs), carried_cell(frame, crs))
    cells = tifffile.imread(source, maxworkers=2)
    at_x, at_y = positions(frame, target)
    moved = cv2.remap(cells, at_x, at_y, METHODS[method], borderMode=cv2.BORDER_CONSTANT)
    options = {"compression": "zlib", "compressionargs": {"level": 6}, "predictor": 2}
    tifffile.imwrite(result, moved, photometric="rgb", tile=(512, 512), maxworkers=2, **options)


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3])
