"""Thinned lines: nothing breaks, nothing is spare, every link is followed once."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from depth import examples
from program import Program
from rasters import frame, raster, save
from zembrel.features.files import read_features
from zembrel.raster.kernels import skeleton

AROUND = np.ones((3, 3))


def blobs(seed: int, size: int, share: float) -> np.ndarray:
    chance = np.random.default_rng(seed)
    cells = ndimage.uniform_filter(chance.random((size, size)), 3) < share
    return np.pad(cells.astype(np.uint8), 1)


@settings(max_examples=examples(120), deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 40), st.sampled_from([0.4, 0.5, 0.55]))
def test_thinning_keeps_parts_and_holes_and_leaves_nothing_to_spare(
    seed: int, size: int, share: float
) -> None:
    mask = blobs(seed, size, share)
    thinned = mask.copy()
    skeleton.thin(thinned)
    assert (thinned <= mask).all()
    labels, parts = ndimage.label(mask, AROUND)
    assert ndimage.label(thinned, AROUND)[1] == parts == len(set(labels[thinned == 1].tolist()))
    assert ndimage.label(thinned == 0)[1] == ndimage.label(mask == 0)[1]  # holes
    for y, x in np.argwhere(thinned):
        near = sum(
            int(thinned[y + dy, x + dx]) << n
            for n, (dy, dx) in enumerate(zip(skeleton.DY, skeleton.DX, strict=True))
        )
        assert not skeleton.SPARE[near]


@settings(max_examples=examples(120), deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 40), st.sampled_from([0.45, 0.55]))
def test_every_link_is_followed_once(seed: int, size: int, share: float) -> None:
    mask = blobs(seed, size, share)
    skeleton.thin(mask)
    cells, starts, ends, alone = skeleton.follow(mask)
    links = set()
    for a, b in pairwise(starts):
        line = cells[a:b]
        assert np.abs(np.diff(line, axis=0)).max() == 1
        for one, other in pairwise(line.tolist()):
            link = frozenset([tuple(one), tuple(other)])
            assert link not in links
            links.add(link)
    met = {cell for link in links for cell in link}
    assert len(met) + alone == mask.sum() and all(mask[cell] for cell in met)
    degree = {cell: sum(cell in link for link in links) for cell in met}
    for a, b, (first, last) in zip(starts[:-1], starts[1:], ends, strict=True):
        assert degree[tuple(cells[a])] == first and degree[tuple(cells[b - 1])] == last
        closed = tuple(cells[a]) == tuple(cells[b - 1])
        assert (first != 2 and last != 2) or closed
        assert all(degree[tuple(cell)] == 2 for cell in cells[a + 1 : b - 1])


def test_lines_keep_values_share_nodes_and_lose_spurs(zembrel: Program) -> None:
    cells = np.zeros((40, 60), np.int16)
    cells[10:13, 5:55] = 7  # a thick line, of another value beyond its middle
    cells[10:13, 30:55] = 9
    cells[13:30, 40] = 9  # a branch
    cells[13:16, 20] = 7  # a spur
    cells[30:38, 10:18] = 5
    cells[31:37, 11:17] = 0  # a loop
    save(zembrel.folder / "l.tif", raster(cells, where=frame(60, 40)))
    zembrel("trace", "l.tif", "--background", "0", "--spurs", "6", "--out", "l.gpkg")
    table = read_features(zembrel.folder / "l.gpkg")
    rows = list(table.rows())
    assert sorted(row["value"] for row in rows) == [5, 7, 9, 9, 9]
    by_value = {
        value: [s for s, r in zip(table.geometries, rows, strict=True) if r["value"] == value]
        for value in (5, 7, 9)
    }
    (loop,) = by_value[5]
    assert loop.is_closed and loop.length == pytest.approx(4 * 70, rel=0.1)
    ends = [shape.boundary for shape in by_value[9]]
    junction = shapely.intersection_all(by_value[9])
    assert junction.geom_type == "Point" and sum(end.covers(junction) for end in ends) == 3
    assert shapely.union_all([*by_value[7], *by_value[9]]).geom_type in ("MultiLineString", "LineString")
    assert shapely.get_num_coordinates(by_value[7][0]) <= 5  # corners where it turns alone
    assert all(
        row["length"] == pytest.approx(s.length, rel=1.5e-3)
        for s, row in zip(table.geometries, rows, strict=True)
    )
    without = zembrel("trace", "l.tif", "--background", "0", "--out", "m.gpkg", "--json").json
    assert without["features"] > 5
    assert "all line" in zembrel.refuses(3, "trace", "l.tif", "--out", "x.gpkg")[0]
