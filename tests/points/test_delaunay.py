"""The triangles between points are those of another program."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import Delaunay
from shapely import MultiPoint

from depth import examples
from zembrel.points.kernels.delaunay import delaunay

RANDOM = np.random.default_rng(3)
GRID = np.stack(np.meshgrid(np.arange(40.0), np.arange(50.0)), -1).reshape(-1, 2)
ANGLE = np.sort(RANDOM.uniform(0, 2 * np.pi, 300))
CLOUDS = {
    "three": np.array([[0.0, 0], [3, 1], [1, 4]]),
    "random": RANDOM.uniform(0, 500, (5000, 2)),
    "mesh": GRID + 2e-5 * RANDOM.uniform(-0.5, 0.5, GRID.shape),
    "ring": np.column_stack([np.cos(ANGLE), np.sin(ANGLE)]) * RANDOM.uniform(99.99, 100.01, (300, 1)),
    "clusters": np.concatenate([RANDOM.normal(c, 0.01, (400, 2)) for c in (0, 3, 400)]),
    "far off": np.concatenate([RANDOM.uniform(0, 1, (500, 2)), [[9000, 4000], [-7000, 2000]]]),
    "scan lines": np.column_stack([RANDOM.uniform(0, 300, 3000), np.repeat(np.arange(30.0), 100)])
    + 2e-5 * RANDOM.uniform(-0.5, 0.5, (3000, 2)),
}  # fmt: skip


def turned(places: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    a, b, c = (places[triangles[:, n]] for n in range(3))
    return (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])


def in_order(triangles: np.ndarray) -> list[tuple[int, ...]]:
    return sorted(tuple(sorted(map(int, triangle))) for triangle in triangles)


@pytest.mark.parametrize("name", CLOUDS)
def test_triangles_are_those_of_another_program(name: str) -> None:
    places = CLOUDS[name]
    found = delaunay(places)
    wanted = Delaunay(places - (places.min(axis=0) + places.max(axis=0)) / 2).simplices
    assert in_order(found) == in_order(wanted) and (turned(places, found) > 0).all()


@settings(max_examples=examples(60), deadline=None)
@given(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 30)), min_size=1, max_size=60, unique=True))
def test_a_plane_of_whole_numbers_is_covered_once(corners: list[tuple[int, int]]) -> None:
    """Many lie on one line or one circle here: whichever way is cut, the hull is covered, and once."""
    places = np.array(corners, float)
    double = turned(places, delaunay(places))
    area = MultiPoint(corners).convex_hull.area
    assert (double >= 0).all() and double.sum() / 2 == pytest.approx(area, abs=1e-9)


def test_points_on_a_line_have_no_triangles() -> None:
    assert delaunay(np.array([[0.0, 0], [1, 1], [2, 2], [5, 5]])).shape == (0, 3)
    assert delaunay(np.zeros((0, 2))).shape == (0, 3) == delaunay(np.ones((2, 2))).shape
