"""Statistics, coverage, disagreement and fit: what blocks tell in passing."""

from __future__ import annotations

import numpy as np
import pytest

from rasters import frame, random_cells, raster
from zembrel.engine.limits import Limits
from zembrel.engine.run import observe
from zembrel.grid.pane import Pane
from zembrel.raster.disagreement import disagreements
from zembrel.raster.fit import TypeFit
from zembrel.raster.survey import Coverage, Statistics
from zembrel.raster.views.overlap import RasterPiece
from zembrel.raster.views.place import Positioned


@pytest.mark.parametrize("side", [3, 16, 100])
def test_statistics_are_exact_however_the_raster_is_cut(side: int) -> None:
    cells, valid = random_cells(2, 50, 60, kind="float64") + 1e7, random_cells(50, 60) > 100
    statistics = Statistics()
    view = raster(cells, valid)
    observe(view, list(view.frame.pane.blocks(side, side)), [statistics], Limits(workers=2))
    for band in range(2):
        values = cells[band][valid]
        tally = statistics.tallies[band]
        assert (tally.cells, tally.low, tally.high) == (values.size, values.min(), values.max())
        assert tally.mean == pytest.approx(values.mean(), rel=1e-14)
        assert statistics.deviation(band) == pytest.approx(values.std(), rel=1e-9)


def test_coverage_counts_what_is_missing_inside_the_area() -> None:
    class Left:
        def inside(self, pane: Pane) -> np.ndarray:
            return np.broadcast_to(np.arange(pane.left, pane.right) < 10, pane.shape)

    valid = np.ones((20, 20), bool)
    valid[5:7, 4:14] = False
    view = raster(random_cells(20, 20), valid)
    coverage = Coverage(Left())
    observe(view, list(view.frame.pane.blocks(8, 8)), [coverage], Limits(workers=1))
    assert (coverage.valid, coverage.missing, coverage.first) == (380, 12, (5, 4))


@pytest.mark.parametrize(
    "wanted, outside, fractions", [("uint8", 3, 2), ("int16", 1, 2), ("float32", 0, 1), ("int64", 0, 2)]
)
def test_what_does_not_fit_is_counted(wanted: str, outside: int, fractions: int) -> None:
    view = raster(np.array([[-1.0, 0.5, 7.0, 255.0, 256.0, 70_000.0, 0.1]]))
    fit = TypeFit(wanted)
    observe(view, [view.frame.pane], [fit], Limits(workers=1))
    if wanted == "float32":
        assert fit.outside == 0  # 0.1 is off by less than the tolerance of one part in a million
        assert fit.fractions == 0
    else:
        assert (fit.outside, fit.fractions) == (outside, fractions)
    assert (fit.low, fit.high) == (-1.0, 70_000.0)


def test_disagreement_is_measured_where_both_are_valid() -> None:
    whole = frame(300, 200)
    cells = random_cells(200, 200).astype(np.int16)
    one = Positioned(raster(cells), whole, 0, 0)
    valid = np.ones((200, 200), bool)
    valid[:, 150:] = False
    shifted = Positioned(raster((np.roll(cells, -100, axis=1) + 3).astype(np.int16), valid), whole, 0, -100)
    found = disagreements(
        [RasterPiece(one, Pane(0, 0, 200, 200)), RasterPiece(shifted, Pane(0, 100, 200, 300))]
    )
    assert [(d.first, d.second) for d in found] == [(0, 1)]
    assert (found[0].mean, found[0].rms, found[0].worst) == (3.0, 3.0, 3.0)
