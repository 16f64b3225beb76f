"""What sheets tell of each other: tone, shift, disagreement."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from rasters import frame, random_cells, raster
from zembrel.grid.pane import Pane
from zembrel.raster.disagreement import commons, disagreements
from zembrel.raster.displacement import Displacement, Untold, displacement
from zembrel.raster.kernels.distance import depth
from zembrel.raster.tone import matched
from zembrel.raster.views.overlap import RasterPiece
from zembrel.raster.views.place import Positioned

NUMBERS = np.random.default_rng(5)
GROUND = ndimage.gaussian_filter(NUMBERS.normal(0, 1, (400, 400)), 3) * 200 + 120


def sheets(tones: list[tuple[float, float]]) -> list[RasterPiece]:
    """Four sheets of one ground, each shown in a tone of its own, on one frame."""
    whole, pieces = frame(400, 400), []
    corners = ((0, 0), (0, 180), (180, 0), (180, 180))
    for (top, left), (gain, offset) in zip(corners, tones, strict=True):
        seen = ((GROUND[top : top + 220, left : left + 220] - offset) / gain).astype(np.float32)
        view = Positioned(raster(seen), whole, -top, -left)
        pieces.append(RasterPiece(view, Pane(top, left, top + 220, left + 220)))
    return pieces


def test_tones_come_back_up_to_the_one_that_all_share() -> None:
    """Each sheet's gain over what it was shown with is one number for all; offsets likewise."""
    tones = [(0.8, 10.0), (1.0, 0.0), (1.15, -12.0), (1.05, 2.0)]
    gains, offsets = matched(4, commons(sheets(tones), 1)[0])
    shown = gains / np.array([gain for gain, _ in tones])
    assert shown == pytest.approx(shown.mean(), rel=1e-4) and gains.mean() == pytest.approx(1, abs=1e-3)
    base = offsets - np.array([offset for _, offset in tones]) * shown
    assert base == pytest.approx(base.mean(), abs=0.05)


def test_sheets_without_overlap_keep_their_tone() -> None:
    gains, offsets = matched(3, [])
    assert gains.tolist() == [1, 1, 1] and offsets.tolist() == [0, 0, 0]
    gains, offsets = matched(5, commons(sheets([(0.8, 0), (1, 0), (1, 0), (1, 0)]), 1)[0])
    assert gains[4] == pytest.approx(1, abs=0.01) and offsets[4] == pytest.approx(0, abs=0.5)


@pytest.mark.parametrize("right, down", [(0.0, 0.0), (0.3, -0.4), (2.25, 1.5), (-7.6, 5.2)])
def test_a_shift_is_seen_to_a_part_of_a_cell(right: float, down: float) -> None:
    other = ndimage.shift(GROUND, (down, right), order=3, mode="nearest")
    window = np.s_[100:196, 100:196]
    noise = NUMBERS.normal(0, 1, (2, 96, 96))
    found = displacement(GROUND[window] + noise[0], other[window] + noise[1])
    assert isinstance(found, Displacement) and (found.columns, found.rows) == pytest.approx(
        (right, down), abs=0.06
    )


def test_nothing_is_said_of_what_cannot_be_told() -> None:
    flat, small = np.full((96, 96), 7.0), GROUND[:20, :20]
    unlike = NUMBERS.normal(0, 1, (2, 96, 96))
    unknown = np.where(random_cells(96, 96) > 60, np.nan, GROUND[:96, :96])
    for one, other in ((flat, flat), (small, small), tuple(unlike), (unknown, unknown)):
        assert isinstance(displacement(one, other), Untold)


def test_a_shifted_sheet_is_found_among_pairs() -> None:
    pieces = sheets([(1, 0)] * 4)
    moved = ndimage.shift(GROUND, (1.5, 0), order=3, mode="nearest")[180:, 180:].astype(np.float32)
    pieces[3] = RasterPiece(Positioned(raster(moved), frame(400, 400), -180, -180), pieces[3].footprint)
    found = {(d.first, d.second): d.shift for d in disagreements(pieces)}
    assert set(found) == {(0, 1), (0, 2), (0, 3), (1, 2), (1, 3), (2, 3)}
    assert found[1, 3] == pytest.approx((0, 1.5), abs=0.1) and found[0, 1] == pytest.approx((0, 0), abs=0.05)


@pytest.mark.parametrize("most", [1.0, 5.0, 40.0])
def test_depth_is_the_distance_to_the_nearest_cell_outside(most: float) -> None:
    inside = ndimage.binary_dilation(random_cells(60, 70) > 253, iterations=4)
    wanted = np.minimum(ndimage.distance_transform_edt(inside), most)
    np.testing.assert_allclose(depth(inside.astype(np.uint8), most), wanted, atol=1e-5)
