"""Angles as arrays: wrapped to half a turn, doubled from their tangents."""

from __future__ import annotations

import numpy as np

from zembrel.geodesy.ellipsoid import Array


def wrapped(angle: Array) -> Array:
    """`angle` within half a turn of 0, radians."""
    return angle - 2 * np.pi * np.rint(angle / (2 * np.pi))


def double_angle(tangent: Array) -> tuple[Array, Array]:
    """Sine and cosine of 2 x, given tan x: far cheaper than of their own, and as close for any angle."""
    square = tangent * tangent
    scale = 1 / (1 + square)
    return 2 * tangent * scale, (1 - square) * scale
