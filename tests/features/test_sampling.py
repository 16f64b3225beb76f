"""Values at points, against plain interpolation and statistics; cells as points."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from depth import examples
from program import Program
from rasters import frame, raster, save
from zembrel.features.files import read_features, write_features
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code
from zembrel.raster.method import parse_method
from zembrel.raster.sampling import values_at


@settings(max_examples=examples(40), deadline=None)
@given(st.integers(0, 10_000))
def test_values_are_those_of_plain_formulas(seed: int) -> None:
    chance = np.random.default_rng(seed)
    cells = chance.normal(0, 10, (530, 40)).astype(np.float32)  # more than one tile
    source = raster(cells, where=frame(40, 530))
    u, v = chance.uniform(4, 36, 60), chance.uniform(4, 526, 60)
    x, y = 730_000 + 10 * u, 5_100_000 - 10 * v
    near, known = values_at(source, x, y, parse_method("nearest"))
    np.testing.assert_array_equal(near[0], cells[v.astype(int), u.astype(int)])
    assert known.all()
    linear, _ = values_at(source, x, y, parse_method("bilinear"))
    expected = ndimage.map_coordinates(cells.astype(float), [v - 0.5, u - 0.5], order=1)
    np.testing.assert_allclose(linear[0], expected, atol=1e-6)
    rows, columns = np.mgrid[0:530, 0:40] + 0.5
    for name, work in (("mean", np.mean), ("max", np.max), ("median", np.median), ("sum", np.sum)):
        found, _ = values_at(source, x[:5], y[:5], parse_method(name), np.full((2, 5), 25.0))
        around = [
            cells[np.hypot(rows - b, columns - a) <= 2.5].astype(float)
            for a, b in zip(u[:5], v[:5], strict=True)
        ]
        np.testing.assert_allclose(found[0], [work(part) for part in around], rtol=1e-6)


def test_outside_and_void_are_missing_and_names_come_along(zembrel: Program) -> None:
    cells = np.arange(12, dtype=np.int16).reshape(3, 4)
    valid = cells != 5
    save(zembrel.folder / "h.tif", raster(cells, valid=valid, where=frame(4, 3)))
    places = [(5, -5), (15, -15), (35, -25), (400, 0)]
    points = FeatureTable.of(
        [shapely.Point(730_000 + x, 5_100_000 + y) for x, y in places], [{"h": n} for n in range(4)], by_code(32626)
    )  # fmt: skip
    write_features(zembrel.folder / "p.gpkg", points, "p")
    said = zembrel("sample", "h.tif", "--at", "p.gpkg", "--where", "h >= 0", "--out", "s.gpkg", "--json").json
    assert [row["h_2"] for row in read_features(zembrel.folder / "s.gpkg").rows()] == [0, None, 11, None]
    assert said["missing"] == 2
    write_features(
        zembrel.folder / "a.gpkg", FeatureTable.of([shapely.box(0, 0, 1, 1)], [{}], by_code(32626)), "a"
    )
    assert "polygon" in zembrel.refuses(3, "sample", "h.tif", "--at", "a.gpkg", "--out", "x.gpkg")[1]
    assert zembrel.refuses(
        2, "sample", "h.tif", "--at", "p.gpkg", "--method", "cubic", "--reach", "5m", "--out", "x.gpkg"
    )
    assert zembrel.refuses(2, "sample", "h.tif", "--out", "x.gpkg")[2] == "add --at POINTS"


def test_every_valid_cell_becomes_a_point(zembrel: Program) -> None:
    cells = np.random.default_rng(1).integers(0, 9, (2, 7, 5)).astype(np.int16)
    valid = np.random.default_rng(2).random((2, 7, 5)) > 0.4
    save(zembrel.folder / "c.tif", raster(cells, valid=valid, where=frame(5, 7), nodata=-1.0))
    zembrel("centroids", "c.tif", "--out", "c.parquet")
    table = read_features(zembrel.folder / "c.parquet")
    some = valid.any(axis=0)
    assert len(table) == some.sum()
    x, y = shapely.get_x(table.geometries), shapely.get_y(table.geometries)
    columns, rows = ((x - 730_000) / 10).astype(int), ((5_100_000 - y) / 10).astype(int)
    np.testing.assert_array_equal((rows * 5 + columns), np.flatnonzero(some))
    for band in (0, 1):
        held = [row[f"band{band + 1}"] for row in table.rows()]
        kept = [int(v) if k else None for v, k in zip(cells[band][some], valid[band][some], strict=True)]
        assert held == kept
    assert x[0] % 10 == pytest.approx(5.0)
