"""Codes and radii of the weighted kernels and codes of the ranked ones, free of any heavy import."""

from __future__ import annotations

BILINEAR, CUBIC, LANCZOS, MEAN = 1, 2, 3, 4
CODES = {"bilinear": BILINEAR, "cubic": CUBIC, "lanczos": LANCZOS, "mean": MEAN}
RADIUS = {BILINEAR: 1.0, CUBIC: 2.0, LANCZOS: 3.0, MEAN: 0.5}  # in cells, before widening
MODE, RANK = 1, 2  # the most frequent value; the value of a rank
RANKS = {"min": 0.0, "median": 0.5, "max": 1.0}  # shares of the way from the smallest to the largest
