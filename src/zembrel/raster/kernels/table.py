"""Codes and radii of the weighted kernels, free of any heavy import."""

from __future__ import annotations

BILINEAR, CUBIC, LANCZOS, MEAN = 1, 2, 3, 4
CODES = {"bilinear": BILINEAR, "cubic": CUBIC, "lanczos": LANCZOS, "mean": MEAN}
RADIUS = {BILINEAR: 1.0, CUBIC: 2.0, LANCZOS: 3.0, MEAN: 0.5}  # in cells, before widening
