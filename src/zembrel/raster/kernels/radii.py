"""Codes of the weighted kernels, and of the ways to pick a value, free of any heavy import."""

from __future__ import annotations

BILINEAR, CUBIC, LANCZOS, MEAN = 1, 2, 3, 4
MODE, RANK = 1, 2  # the most frequent value; the value of a rank
