"""What kernels of sampling are given, in groups."""

from __future__ import annotations

from typing import Any, NamedTuple


class Sampled(NamedTuple):
    """Source cells and where they are looked up.

    cells: (bands, rows, columns); valid: (0, 1 or bands, rows, columns) bytes; u, v: positions along x and y,
    NaN for nowhere, counted from the raster's first cell, as `left` and `top` are, those of `cells[:, 0, 0]`.
    """

    cells: Any
    valid: Any
    u: Any
    v: Any
    left: int
    top: int


class PatchScales(NamedTuple):
    """Source cells per result cell along x and y, for patches of `side` cells.

    scale: (2, patch rows, patch columns); the first patch begins `lead_r` rows and `lead_c` columns before
    the result.
    """

    scale: Any
    side: int
    lead_r: int
    lead_c: int


class Pick(NamedTuple):
    """What is picked from a footprint: a code of `weights`, and the rank from 0 (smallest) to 1 (largest)."""

    what: int
    share: float


class Finish(NamedTuple):
    """The share of the full weight that must be valid, and whether to round to integers in [low, high]."""

    need: float
    whole: bool
    low: float
    high: float


class Into(NamedTuple):
    """The result.

    out: (bands, rows, columns); ok: (1 or bands, rows, columns) bytes, set where out is valid; start: the
    row of both that the first row of positions is for.
    """

    out: Any
    ok: Any
    start: int
