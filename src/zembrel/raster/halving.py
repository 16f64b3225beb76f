"""Overviews: four cells become one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zembrel.errors import UsageError, nearest_name
from zembrel.raster import kernels
from zembrel.raster.kernels import worth_compiling
from zembrel.raster.model import Band, Cells, Mask, pick_bands
from zembrel.raster.views.opacity import divided, multiplied
from zembrel.raster.whole import is_wide, rounded

OVERVIEWS = ("mean", "mode", "min", "max", "nearest")


def overview_methods(text: str, bands: tuple[Band, ...], usual: str) -> tuple[str, ...]:
    """The method of each band of `mean,qa:mode`; none for `no`. Raises UsageError.

    usual: the method of bands that are not named, if no word says it.
    """
    if text == "no":
        return ()
    methods = [usual] * len(bands)
    words = [word.strip() for word in text.split(",")]
    for word in sorted(words, key=lambda word: ":" in word):  # those of bands after that of all
        name, colon, method = word.rpartition(":")
        method = usual if method in ("auto", "yes") and not colon else method
        if method not in OVERVIEWS:
            raise UsageError(
                f"overviews={text} is unclear",
                f"they are made by one of {', '.join(OVERVIEWS)}, or no",
                nearest_name(method, (*OVERVIEWS, "no")),
            )
        for n in pick_bands(bands, name) if colon else range(len(bands)):
            methods[n] = method
    return tuple(methods)


def halved(
    cells: Cells, valid: Mask | None, method: str, *, opacity: bool = False
) -> tuple[Cells, Mask | None]:
    """Half as many rows and columns, rounded up, by `method`: mean, mode (the most frequent value of
    codes), min, max, or nearest (the upper left of four).

    cells: (bands, rows, columns); valid: None or (1 or bands, rows, columns) bool. A result is valid
    if any of its cells is. opacity: whether the last band is that, by which means are weighed. Returns the
    same two.
    """
    if method in ("min", "max"):
        return _extreme(cells, valid, method)
    if opacity and method == "mean":
        smaller, known = halved(multiplied(cells), valid, method)
        return divided(smaller, cells.dtype), known
    if method == "nearest":
        return cells[:, ::2, ::2].copy(), None if valid is None else valid[:, ::2, ::2].copy()
    bands, height, width = cells.shape
    if method not in ("mean", "mode"):
        raise LookupError(method)
    if method == "mean" and (is_wide(cells.dtype) or not worth_compiling(cells.size)):
        return _plain_mean(cells, valid)

    out = np.zeros((bands, -(-height // 2), -(-width // 2)), cells.dtype)
    cells = np.ascontiguousarray(cells)
    mask = np.zeros((0, 0, 0), np.uint8) if valid is None else np.ascontiguousarray(valid).view(np.uint8)
    ok = np.zeros((mask.shape[0], *out.shape[1:]), np.uint8)
    if method == "mode":
        kernels.halve.mode(cells, mask, out, ok)
    elif cells.dtype == np.uint8 and not height % 2 and not width % 2:
        kernels.halve.mean_of_bytes(cells, mask, out, ok)
    else:
        kernels.halve.mean(cells, mask, cells.dtype.kind != "f", out, ok)
    return out, None if valid is None else ok.view(bool)


def _plain_mean(cells: Cells, valid: Mask | None) -> tuple[Cells, Mask | None]:
    """Means without the compiler, the same to the last bit."""
    height, width = cells.shape[1:]
    if valid is None and cells.dtype.kind == "u" and cells.itemsize <= 2 and not (height % 2 or width % 2):
        return ((_four(cells.astype(np.uint32)) + 2) >> 2).astype(cells.dtype), None
    edges = ((0, 0), (0, height % 2), (0, width % 2))
    known = np.pad(np.ones((1, height, width), bool) if valid is None else valid, edges)
    exact = np.where(known, np.pad(cells, edges).astype(np.float64), 0.0)
    total, count = _four(exact), _four(known.astype(np.float64))
    value = total / np.maximum(count, 1)
    out = rounded(value, cells.dtype)
    out[np.broadcast_to(count == 0, out.shape)] = 0
    return out, None if valid is None else count > 0


def _extreme(cells: Cells, valid: Mask | None, method: str) -> tuple[Cells, Mask | None]:
    """The smallest or largest of the valid ones of 2 x 2 cells."""
    height, width = cells.shape[1:]
    edges = ((0, 0), (0, height % 2), (0, width % 2))
    limits = np.iinfo(cells.dtype) if cells.dtype.kind in "iu" else np.finfo(cells.dtype)
    beyond = limits.max if method == "min" else limits.min
    known = np.pad(np.ones((1, height, width), bool) if valid is None else valid, edges)
    held = np.where(known, np.pad(cells, edges), np.asarray(beyond, cells.dtype))
    pick = np.minimum if method == "min" else np.maximum
    out = pick(pick(held[:, ::2, ::2], held[:, ::2, 1::2]), pick(held[:, 1::2, ::2], held[:, 1::2, 1::2]))
    some = known[:, ::2, ::2] | known[:, ::2, 1::2] | known[:, 1::2, ::2] | known[:, 1::2, 1::2]
    out[np.broadcast_to(~some, out.shape)] = 0
    return out, None if valid is None else some


def halved_by_band(
    cells: Cells, valid: Mask | None, methods: Sequence[str], *, opacity: bool = False
) -> tuple[Cells, Mask | None]:
    """The same, each band by its own method."""
    if len(set(methods)) == 1:
        return halved(cells, valid, methods[0], opacity=opacity)
    own = None if valid is None else np.broadcast_to(valid, cells.shape)
    done = [
        halved(cells[n : n + 1], None if own is None else own[n : n + 1], method)
        for n, method in enumerate(methods)
    ]
    known = [part for _, part in done if part is not None]
    return np.concatenate([part for part, _ in done]), np.concatenate(known) if known else None


def _four(values: Cells) -> Cells:
    """Sums of 2 x 2 cells, in the order of reading."""
    rows = values[:, ::2, ::2] + values[:, ::2, 1::2]
    total: Cells = rows + values[:, 1::2, ::2] + values[:, 1::2, 1::2]
    return total
