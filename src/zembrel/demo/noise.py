"""Gradient noise: smooth random fields that can be evaluated anywhere.

Source: K. Perlin, "Improving noise", ACM Transactions on Graphics 21 (2002), with hashed gradients.
"""

from __future__ import annotations

import math

import numpy as np

from zembrel.compiling import kernel, part_of_kernels

_DIRECTIONS = 256
_ACROSS = np.cos(np.arange(_DIRECTIONS) * (math.tau / _DIRECTIONS))
_UP = np.sin(np.arange(_DIRECTIONS) * (math.tau / _DIRECTIONS))


@part_of_kernels
def _corner(ix, iy, seed, dx, dy):  # type: ignore[no-untyped-def]
    h = (ix * 374761393 + iy * 668265263 + seed * 974634777) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 1274126177) & 0xFFFFFFFF
    direction = (h ^ (h >> 16)) & 255
    return _ACROSS[direction] * dx + _UP[direction] * dy


@kernel
def noise(x, y, seed):  # type: ignore[no-untyped-def]
    """Smooth noise of unit wavelength in about -0.7 to 0.7 at a point."""
    fx, fy = math.floor(x), math.floor(y)
    ix, iy, dx, dy = int(fx), int(fy), x - fx, y - fy
    u = dx * dx * dx * (dx * (dx * 6 - 15) + 10)
    v = dy * dy * dy * (dy * (dy * 6 - 15) + 10)
    top = _corner(ix, iy, seed, dx, dy) * (1 - u) + _corner(ix + 1, iy, seed, dx - 1, dy) * u
    low = _corner(ix, iy + 1, seed, dx, dy - 1) * (1 - u) + _corner(ix + 1, iy + 1, seed, dx - 1, dy - 1) * u
    return top * (1 - v) + low * v


@kernel
def fractal(x, y, octaves, seed):  # type: ignore[no-untyped-def]
    """Octaves of noise, each half as long and half as strong."""
    total, strength = 0.0, 1.0
    for n in range(octaves):
        total += strength * noise(x, y, seed + n)
        x, y, strength = 2.03 * x + 7.1, 2.03 * y - 3.7, 0.5 * strength
    return total


@kernel
def ridged(x, y, octaves, seed):  # type: ignore[no-untyped-def]
    """Ridges: octaves of folded noise, each weighted by the one before; about 0 to 1.

    Source: F. K. Musgrave in "Texturing and Modeling: A Procedural Approach", chapter 16 (2002).
    """
    total, strength, weight = 0.0, 0.5, 1.0
    for n in range(octaves):
        fold = 1.0 - 1.6 * abs(noise(x, y, seed + n))
        fold = fold * fold * weight
        total += strength * fold
        weight = min(max(1.6 * fold, 0.0), 1.0)
        x, y, strength = 2.07 * x - 5.3, 2.07 * y + 9.2, 0.5 * strength
    return total
