"""Kernels against plain NumPy at random positions, with and without masks."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest

import depth
from rasters import frame, random_cells, raster
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame
from zembrel.raster.halving import _plain_mean, halved
from zembrel.raster.kernels import warp, windowed
from zembrel.raster.kernels.arguments import Finish, Into, Sampled
from zembrel.raster.kernels.weights import phase_table
from zembrel.raster.method import NEED
from zembrel.raster.views.reproject import on_frame

HEIGHT, WIDTH = 24, 31
NUMBERS = np.random.default_rng(7)
U, V = NUMBERS.uniform(-2, WIDTH + 2, (17, 19)), NUMBERS.uniform(-2, HEIGHT + 2, (17, 19))
U[3, 4] = np.nan


def keys(t: float) -> float:
    """Cubic convolution with a = -1/2 (Keys 1981, equation 15)."""
    t = abs(t)
    return 1.5 * t**3 - 2.5 * t**2 + 1 if t < 1 else -0.5 * t**3 + 2.5 * t**2 - 4 * t + 2 if t < 2 else 0.0


SHAPES: dict[str, tuple[int, Callable[[float], float]]] = {
    "bilinear": (1, lambda t: max(0.0, 1 - abs(t))),
    "cubic": (2, keys),
    "lanczos": (3, lambda t: float(np.sinc(t) * np.sinc(t / 3)) if abs(t) < 3 else 0.0),
}


def expected(
    cells: np.ndarray, valid: np.ndarray | None, u: float, v: float, method: str, widen: float = 1.0
) -> float:
    """Weighted mean of the valid cells around (u, v); NaN if less than half of the weight is there."""
    radius, shape = SHAPES[method]
    reach = math.ceil(radius * widen) + 1
    total = mass = full = 0.0
    for y in range(math.floor(v) - reach, math.floor(v) + reach + 1):
        for x in range(math.floor(u) - reach, math.floor(u) + reach + 1):
            w = shape((x + 0.5 - u) / widen) * shape((y + 0.5 - v) / widen)
            full += w
            if 0 <= x < WIDTH and 0 <= y < HEIGHT and (valid is None or valid[y, x]):
                total, mass = total + w * float(cells[y, x]), mass + w
    return total / mass if mass > 0 and mass >= NEED * full - 1e-9 else math.nan


def ran(method: str, cells: np.ndarray, valid: np.ndarray | None) -> np.ndarray:
    """The kernel's results at U, V; NaN where it says invalid. One band."""
    mask = np.zeros((0, 0, 0), np.uint8) if valid is None else valid[None].view(np.uint8)
    out, ok = np.zeros((1, *U.shape), cells.dtype), np.zeros((1, *U.shape), np.uint8)
    at, into = Sampled(cells[None], mask, U + 100, V + 50, 100, 50), Into(out, ok, 0)
    whole = cells.dtype.kind != "f"
    finish = Finish(NEED - 1e-9, whole, 0.0, 255.0)
    if method != "bilinear":
        code = {"cubic": 2, "lanczos": 3}[method]
        windowed.tabled(at, phase_table(code, float(code)), finish, into)
    elif whole:
        warp.bilinear_bytes(np.zeros((0, 0), np.uint64), at, finish, into)
    else:
        warp.bilinear(at, finish, into)
    return np.where(ok[0] > 0, out[0].astype(float), np.nan)


@pytest.mark.parametrize("masked", [False, True])
@pytest.mark.parametrize("kind", ["uint8", "float64"])
@pytest.mark.parametrize("method", SHAPES)
def test_interpolation_is_the_weighted_mean_of_valid_cells(method: str, kind: str, masked: bool) -> None:
    cells = random_cells(HEIGHT, WIDTH).astype(kind)
    valid = random_cells(HEIGHT, WIDTH, seed=2) > 70 if masked else None
    found = ran(method, cells, valid)
    for at in np.ndindex(U.shape):
        wanted = expected(cells, valid, U[at], V[at], method) if np.isfinite(U[at]) else math.nan
        lost = math.isnan(wanted) or not (-0.5 < U[at] < WIDTH + 0.5 and -0.5 < V[at] < HEIGHT + 0.5)
        if np.isnan(found[at]) or lost:
            assert np.isnan(found[at]) == lost, (at, U[at], V[at], wanted)
            continue
        # bytes are rounded; table and integer weights stand at 1/4096 of a cell
        assert abs(found[at] - np.clip(wanted, 0, 255) if kind == "uint8" else found[at] - wanted) < (
            0.7 if kind == "uint8" else 0.35
        )


@pytest.mark.parametrize("masked", [False, True])
def test_three_bands_at_once_are_each_interpolated_alone(masked: bool) -> None:
    cells = np.stack([random_cells(HEIGHT, WIDTH, seed=n).astype(np.uint8) for n in range(3)])
    cells[:, 2:4, 3:5] = 255  # the largest sums a lane has to hold
    valid = random_cells(HEIGHT, WIDTH, seed=7) > 70 if masked else None
    mask = np.zeros((0, 0, 0), np.uint8) if valid is None else valid[None].view(np.uint8)
    lanes = np.empty((HEIGHT, WIDTH), np.uint64)
    warp.in_lanes(cells, lanes)
    out, ok = np.zeros((3, *U.shape), np.uint8), np.zeros((1, *U.shape), np.uint8)
    at, finish = Sampled(cells, mask, U + 100, V + 50, 100, 50), Finish(NEED - 1e-9, True, 0.0, 255.0)
    warp.bilinear_bytes(lanes, at, finish, Into(out, ok, 0))
    for band, found in zip(cells, out, strict=True):
        alone = ran("bilinear", band, valid)
        assert (np.isnan(alone) == (ok[0] == 0)).all()
        assert np.nanmax(np.abs(found - alone)) <= 1


def test_the_tables_weights_sum_to_one_and_are_the_kernels() -> None:
    for code, method in ((2, "cubic"), (3, "lanczos")):
        table = phase_table(code, float(code))
        np.testing.assert_allclose(table.sum(axis=1), 1, atol=1e-14)
        weights = [SHAPES[method][1](i - (code - 1) - 1000.5 / 4096) for i in range(2 * code)]
        np.testing.assert_allclose(table[1000], np.array(weights) / sum(weights), atol=1e-14)


@pytest.mark.parametrize("method", SHAPES)
def test_a_shrinking_kernel_widens(method: str) -> None:
    cells = random_cells(HEIGHT, WIDTH).astype(float)
    step = 2.6
    target = Frame(frame(1, 1).crs, Affine(730_000, 5_100_000, 10 * step, -10 * step), 11, 9)
    block = on_frame(raster(cells), target, method).cells(target.pane)
    for row, col in ((2, 3), (4, 8), (0, 0), (8, 10)):
        wanted = expected(cells, None, (col + 0.5) * step, (row + 0.5) * step, method, step)
        assert block.cells[0, row, col] == pytest.approx(wanted, abs=1e-9)


def test_nothing_aliases_when_cells_grow() -> None:
    """Stripes of one cell vanish into their mean at a fifth of the resolution."""
    stripes = np.tile(np.array([0.0, 200.0]), (400, 200))
    target = Frame(frame(1, 1).crs, Affine(730_000, 5_100_000, 50, -50), 80, 80)
    for method, most in (("mean", 25.0), ("bilinear", 9.0), ("cubic", 2.5), ("lanczos", 2.5)):
        found = on_frame(raster(stripes), target, method).cells(target.pane).cells[0]
        assert np.abs(found - 100)[5:-5, 5:-5].max() < most, method


def test_the_mean_weighs_by_covered_area_and_the_mode_takes_the_most_frequent() -> None:
    cells = random_cells(40, 40)
    target = Frame(frame(1, 1).crs, Affine(730_000, 5_100_000, 40, -40), 10, 10)
    blocks = cells.reshape(10, 4, 10, 4).transpose(0, 2, 1, 3).reshape(10, 10, 16)
    mean = on_frame(raster(cells), target, "mean").cells(target.pane).cells[0]
    np.testing.assert_array_equal(mean, np.floor(blocks.mean(axis=2) + 0.5))
    codes = cells % 3
    counts = np.stack([(blocks % 3 == code).sum(axis=2) for code in range(3)])
    mode = on_frame(raster(codes), target, "mode").cells(target.pane).cells[0]
    np.testing.assert_array_equal(mode, counts.argmax(axis=0))


def test_half_a_cell_keeps_the_sum_of_all_cells() -> None:
    """Means over fractional footprints: the total of a raster is kept to rounding."""
    cells = random_cells(60, 60).astype(float)
    target = Frame(frame(1, 1).crs, Affine(730_000, 5_100_000, 25, -25), 24, 24)
    found = on_frame(raster(cells), target, "mean").cells(target.pane).cells[0]
    assert found.sum() * 2.5**2 == pytest.approx(cells.sum(), rel=1e-12)


@pytest.mark.parametrize("shape", [(2, 64, 48), (1, 7, 9), (3, 1, 1)])
@pytest.mark.parametrize("codes", [False, True])
def test_halving(shape: tuple[int, ...], codes: bool) -> None:
    cells, valid = random_cells(*shape) % 5, random_cells(1, *shape[1:], seed=3) > 90
    for mask in (None, valid):
        small, ok = halved(cells, mask, "mode" if codes else "mean")
        if not codes:
            plain, known = _plain_mean(cells, mask)
            there = np.ones(small.shape, bool) if ok is None else np.broadcast_to(ok, small.shape)
            np.testing.assert_array_equal(small[there], plain[there])
            np.testing.assert_array_equal(ok, known)
        for band, row, col in np.ndindex(small.shape):
            window = np.s_[2 * row : 2 * row + 2, 2 * col : 2 * col + 2]
            values = (
                cells[band][window][valid[0][window]] if mask is not None else cells[band][window].ravel()
            )
            if ok is not None:
                assert ok[0, row, col] == (values.size > 0)
            if not values.size:
                continue
            found = small[band, row, col]
            if codes:
                assert (values == found).sum() == max((values == v).sum() for v in values)
            else:
                assert found == math.floor(values.mean() + 0.5)


@pytest.mark.parametrize("method, share", [("min", 0), ("max", 100), ("median", 50), ("percentile:30", 30)])
@pytest.mark.parametrize("kind", depth.some(["int16", "float32"], ["int16"]))
def test_ranks_are_those_of_the_valid_cells_in_the_footprint(method: str, share: float, kind: str) -> None:
    cells, valid = random_cells(40, 40, kind=kind), random_cells(40, 40, seed=2) > 110
    target = Frame(frame(1, 1).crs, Affine(730_000, 5_100_000, 40, -40), 10, 10)
    turned = Frame(target.crs, Affine(730_000, 5_100_000, 40, -40, 1e-9, 1e-9), 10, 10)  # not along axes
    for where in (target, turned):
        block = on_frame(raster(cells, valid), where, method).cells(where.pane)
        for row, col in np.ndindex(10, 10):
            window = np.s_[4 * row : 4 * row + 4, 4 * col : 4 * col + 4]
            values = cells[window][valid[window]].astype(float)
            assert block.valid_of(0)[row, col] == (values.size >= 8)
            if values.size >= 8:
                wanted = np.percentile(values, share)
                wanted = math.floor(wanted + 0.5) if kind == "int16" else np.float32(wanted)
                assert block.cells[0, row, col] == pytest.approx(wanted, rel=1e-6)


@pytest.mark.parametrize("turn", [0.0, 7.0])
@pytest.mark.parametrize("cell", [3.3, 10.0, 27.0])
def test_sums_conserve_the_total_whatever_the_frame(turn: float, cell: float) -> None:
    """The target covers the source: what is valid is counted once, turned or not, finer or coarser."""
    cells, valid = random_cells(50, 60, kind="uint16"), random_cells(50, 60, seed=3) > 40
    side, slope = math.ceil(1400 / cell), turn * cell / 40
    where = Frame(frame(1, 1).crs, Affine(729_700, 5_100_200, cell, -cell, slope, slope), side, side)
    block = on_frame(raster(cells, valid), where, "sum").cells(where.pane)
    assert block.cells[0][block.valid_of(0)].sum() == pytest.approx(float(cells[valid].sum()), rel=1e-9)


def test_sums_reprojected_conserve_the_total() -> None:
    people = random_cells(40, 50).astype(np.int32)
    source = raster(people, where=frame(50, 40, cell=100.0))
    where = Frame(by_code(32627), Affine(263_000, 5_104_000, 130, -130), 70, 70)
    found = on_frame(source, where, "sum").cells(where.pane)
    assert float(found.values.sum()) == pytest.approx(float(people.sum()), rel=1e-9)


@pytest.mark.parametrize("method", ["cubic", "lanczos"])
@pytest.mark.parametrize("kind", depth.some(["uint8", "uint16"], ["uint8"]))
def test_colours_weighed_together_are_those_weighed_apart(method: str, kind: str) -> None:
    cells, valid = random_cells(3, 40, 50, kind=kind), random_cells(40, 50, seed=4) > 3
    where = Frame(frame(1, 1).crs, Affine(730_013, 5_099_991, 10, -10, 0.4, 0.3), 48, 38)
    together = on_frame(raster(cells, valid), where, method).cells(where.pane)
    for band in range(3):
        apart = on_frame(raster(cells[band], valid), where, method).cells(where.pane)
        np.testing.assert_array_equal(apart.valid_of(0), together.valid_of(band))
        gap = np.abs(apart.cells[0].astype(int) - together.cells[band])[together.valid_of(band)]
        assert gap.max() <= 1 and (gap > 0).mean() < 0.01
