"""Feature tables, GeoJSON, and which cells a polygon covers."""

from __future__ import annotations

import json
from datetime import date
from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from rasters import frame
from zembrel.errors import InputError, UsageError
from zembrel.features.cover import PolygonCover
from zembrel.features.files import read_features as read_geojson
from zembrel.features.files.geojson import write_geojson
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code
from zembrel.grid.pane import Pane

FRAME = frame(40, 30, cell=1.0, left=0.0, top=30.0)
BOW_TIE = shapely.Polygon([(0, 0), (10, 10), (10, 0), (0, 10)])


def polygon(seed: int, corners: int = 9) -> shapely.Polygon:
    """A star-shaped polygon with a hole, its corners anywhere."""
    numbers = np.random.default_rng(seed)
    turns = np.sort(numbers.uniform(0, 2 * np.pi, corners))
    reach = numbers.uniform(6, 22, corners)
    ring = np.column_stack([20 + reach * np.cos(turns), 15 + reach * np.sin(turns)])
    shape = shapely.make_valid(shapely.Polygon(ring))
    return shape.difference(shapely.Point(20, 15).buffer(2.3))


@given(st.integers(0, 10_000))
def test_a_cell_is_inside_if_its_middle_is(seed: int) -> None:
    shape = polygon(seed)
    cols, rows = np.meshgrid(np.arange(40.0), np.arange(30.0))
    middles = shapely.points(*FRAME.centres(cols, rows))
    inside = PolygonCover(FRAME, shape).inside(FRAME.pane)
    unsure = shapely.distance(shapely.boundary(shape), middles) < 1e-9
    np.testing.assert_array_equal(inside[~unsure], shapely.contains(shape, middles)[~unsure])


@given(st.integers(0, 10_000))
def test_touching_keeps_every_cell_the_polygon_meets(seed: int) -> None:
    shape = polygon(seed)
    touched = PolygonCover(FRAME, shape, touching=True).inside(FRAME.pane)
    for row, col in np.argwhere(touched != PolygonCover(FRAME, shape).inside(FRAME.pane)):
        west, north = FRAME.corners.at(float(col), float(row))
        assert shapely.intersects(shape, shapely.box(west, north - 1, west + 1, north))
    outside = np.argwhere(~touched)
    cells = [shapely.box(c, 29 - r, c + 1, 30 - r) for r, c in outside]
    assert max((shapely.intersection(shape, cell).area for cell in cells), default=0) < 1e-9


@given(st.integers(0, 10_000), st.floats(0, 40), st.floats(0, 30))
def test_neighbours_share_no_cell_and_leave_none_out(seed: int, x: float, y: float) -> None:
    """A plane cut at a point into four quarters: every cell belongs to exactly one."""
    count = np.zeros((30, 40), int)
    for box in ((-1, -1, x, y), (x, -1, 41, y), (-1, y, x, 31), (x, y, 41, 31)):
        if box[0] < box[2] and box[1] < box[3]:
            count += PolygonCover(FRAME, shapely.box(*box)).inside(FRAME.pane)
    assert (count == 1).all()


def test_any_pane_covers_the_same_cells() -> None:
    for touching in (False, True):
        cover = PolygonCover(FRAME, polygon(5), touching)
        whole = cover.inside(FRAME.pane)
        for pane in FRAME.pane.blocks(7, 11):
            rows, columns = pane.within(FRAME.pane)
            np.testing.assert_array_equal(cover.inside(pane), whole[rows, columns])
    assert not cover.inside(Pane(500, 500, 510, 520)).any()


def test_geojson_written_reads_back_in_degrees(tmp_path: Path) -> None:
    square = shapely.box(730_000, 5_099_000, 731_000, 5_100_000)
    table = FeatureTable.of([square], [{"name": "M\u00e4rrow", "height": 3.5}], by_code(32626))
    path = tmp_path / "a.geojson"
    path.write_text(write_geojson(table), "utf-8")
    again = read_geojson(path)
    assert again.crs == by_code(4326) and next(again.rows()) == {"name": "M\u00e4rrow", "height": 3.5}
    back = again.to(by_code(32626)).polygon()
    assert shapely.symmetric_difference(back, square).area < 1e-3


def test_an_older_file_says_its_crs(tmp_path: Path) -> None:
    path = tmp_path / "old.geojson"
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32626"}}
    point = {"type": "Feature", "properties": None, "geometry": {"type": "Point", "coordinates": [1, 2]}}
    path.write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": [point]}))
    table = read_geojson(path)
    assert table.crs == by_code(32626) and table.geometries[0] == shapely.Point(1, 2)


@pytest.mark.parametrize(
    "text",
    ["", "[]", "{", '{"type": "FeatureCollection", "features": 7}', '{"type": "Nonsense"}', "\x00\xff"],
)
def test_what_is_no_geojson_is_refused(tmp_path: Path, text: str) -> None:
    path = tmp_path / "bad.geojson"
    path.write_bytes(text.encode("latin-1"))
    with pytest.raises(InputError, match="is not GeoJSON"):
        read_geojson(path)


TABLE = FeatureTable.of(
    [shapely.box(n, 0, n + 1, 1) for n in range(4)],
    [
        {"kind": "wood", "height": 3, "seen on": date(2026, 5, 1)},
        {"kind": "heath", "height": 9},
        {"kind": "wood"},
        {"kind": "wood", "height": 7.5, "seen on": date(2026, 6, 1)},
    ],
    by_code(32626),
)


@pytest.mark.parametrize(
    "condition, kept",
    [
        ("kind = 'wood'", 3),
        ("kind == 'wood' and height > 5", 1),
        ("kind in ('wood', 'heath') and not height > 5", 2),
        ("`seen on` >= '2026-06-01'", 1),
        ("height * 2 == 18 or kind == 'x'", 1),
        ("height <= 9", 3),
        ("kind != 'wood'", 1),
        ("height != 3", 3),
    ],
)
def test_conditions_pick_features(condition: str, kept: int) -> None:
    assert len(TABLE.where(condition).geometries) == kept


def test_conditions_that_cannot_be_met_or_read_are_refused() -> None:
    with pytest.raises(UsageError) as caught:
        TABLE.where("hight > 3")
    assert caught.value.remedy == "did you mean height?"
    with pytest.raises(UsageError) as caught:
        TABLE.where("kind = wood")
    assert caught.value.remedy == "if it is a word, put it in quotes: 'wood'"
    with pytest.raises(UsageError):
        TABLE.where("height about 3")
    with pytest.raises(UsageError, match="words with numbers"):
        TABLE.where("kind > 3")
    with pytest.raises(UsageError, match="no condition"):
        TABLE.where("height + 3")
    with pytest.raises(UsageError, match="cannot be read"):
        TABLE.where("__import__('os').system('true')")
    with pytest.raises(InputError, match="no feature meets"):
        TABLE.where("height > 300")


def test_a_faulty_polygon_is_named_with_its_place() -> None:
    with pytest.raises(InputError) as caught:
        FeatureTable.of([shapely.box(0, 0, 1, 1), BOW_TIE], [{}, {}], by_code(32626)).polygon()
    assert "feature 2" in caught.value.what and "5 5" in caught.value.why
