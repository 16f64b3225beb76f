"""Features that cross the edge of the world, or hold a pole, are cut there and stay what they are."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest
import shapely
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely.geometry import shape

from depth import examples
from program import Program
from rasters import raster, save
from zembrel.errors import InputError
from zembrel.features.antimeridian import join_across_edge
from zembrel.features.ground import ground_areas
from zembrel.features.table import FeatureTable
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Affine, Frame

DEGREES = by_code(4326)


def star(seed: int, x: float, y: float, far: float, hole: bool) -> Any:
    chance = np.random.default_rng(seed)
    turns = np.sort(chance.uniform(0, 2 * np.pi, 14))
    away = far * chance.uniform(0.5, 1.0, 14)
    ring = np.column_stack([x + away * np.cos(turns), y + away * np.sin(turns)])
    inner = [np.column_stack([x, y]) + (ring - [x, y]) * 0.3] if hole else []
    made = shapely.Polygon(ring, inner)
    return made if made.is_valid else shapely.convex_hull(made)


def moved(geometry: Any, code: int, to: int = 4326) -> Any:
    return FeatureTable.of([geometry], [{}], by_code(code)).to(by_code(to)).geometries[0]


# a zone on each side of 180, the poles, and 180 itself in degrees that go on past it
HOMES = {32601: (310_000.0, 5_000_000.0, 9e4), 32660: (690_000.0, -200_000.0, 9e4), 3413: (-2e5, 3e5, 2e6),
         3031: (1e5, 1e5, 3e6), 3995: (0.0, -2.5e6, 1e6)}  # fmt: skip


@settings(max_examples=examples(30), deadline=None)
@given(st.integers(0, 9_999), st.sampled_from(sorted(HOMES)), st.booleans())
def test_an_area_holds_the_same_places_and_as_much_ground(seed: int, code: int, hole: bool) -> None:
    own = star(seed, *HOMES[code], hole)
    found = moved(own, code)
    west, south, east, north = found.bounds
    assert found.is_valid and west >= -180 and east <= 180 and south >= -90 and north <= 90
    areas = (
        ground_areas(np.array([own], object), by_code(code), 2e3),
        ground_areas(np.array([found], object), DEGREES, 1.0),
    )
    assert areas[1][0] == pytest.approx(areas[0][0], rel=2e-4)
    chance = np.random.default_rng(seed)
    x, y = (chance.uniform(low, high, 300) for low, high in (own.bounds[::2], own.bounds[1::2]))
    inside = shapely.contains_xy(own, x, y)
    sure = shapely.distance(own.boundary, shapely.points(x, y)) > 10
    lon, lat = operation(by_code(code), DEGREES)(x, y)
    np.testing.assert_array_equal(shapely.contains_xy(found, lon, lat)[sure], inside[sure])


def test_lines_are_cut_and_keep_their_heights() -> None:
    line = shapely.LineString([(200_000, 5_000_000, 5), (700_000, 5_000_000, 10)])
    found = moved(line, 32601)
    assert found.geom_type == "MultiLineString" and found.has_z and len(found.geoms) == 2
    ends = sorted(round(x, 6) for part in found.geoms for x, *_ in (part.coords[0], part.coords[-1]))
    assert ends[0] == -180 and ends[-1] == 180 and -175 < ends[1] < -174 and 180 > ends[2] > 179
    assert found.length == pytest.approx(ends[1] - ends[0] + ends[3] - ends[2], rel=1e-2)


def test_no_part_of_a_mixed_geometry_is_lost_and_empty_ones_stay() -> None:
    across = shapely.LineString([(200_000, 5_000_000), (700_000, 5_000_000)])
    area, point = shapely.box(190_000, 4.9e6, 700_000, 4.95e6), shapely.Point(300_000, 5_000_000)
    found = moved(shapely.GeometryCollection([across, area, point, shapely.Polygon()]), 32601)
    assert {part.geom_type for part in found.geoms} >= {"MultiLineString", "MultiPolygon", "Point"}
    found = moved(shapely.MultiPolygon([area, shapely.Polygon()]), 32601)
    assert found.equals(moved(area, 32601)) and moved(shapely.Polygon(), 32601).is_empty
    points = shapely.MultiPoint([(200_000, 5_000_000), (700_000, 5_000_000)])
    assert len(moved(points, 32601).geoms) == 2


def test_a_map_of_the_whole_world_is_not_cut() -> None:
    """An edge of 360 degrees is one, not a jump."""
    world = shapely.box(-180, -60, 180, 60)
    for code in (3857, 3395, 6933):
        found = moved(world, 4326, code)
        assert found.geom_type == "Polygon"
        west, _, east, _ = found.bounds
        assert -west == pytest.approx(east, rel=1e-9) and east > 1.7e7


def test_the_edge_of_a_projected_world_is_one_too() -> None:
    found = moved(star(3, *HOMES[32601], hole=False), 32601, 3857)
    edge = 6378137 * np.pi
    assert (
        found.geom_type == "MultiPolygon"
        and found.bounds[0] == pytest.approx(-edge)
        and found.bounds[2] == pytest.approx(edge)
    )
    with pytest.raises(InputError, match="no coordinates"):
        moved(star(1, 0.0, 0.0, 2e6, hole=False), 3413, 3857)  # a pole is nowhere there


def test_parts_come_together_across_the_edge() -> None:
    parts = shapely.MultiPolygon(
        [shapely.box(170, 0, 180, 5), shapely.box(-180, 0, -175, 5), shapely.box(160, 1, 162, 2)]
    )
    assert join_across_edge(parts, DEGREES).bounds == (160.0, 0.0, 185.0, 5.0)
    plain = shapely.MultiPolygon([shapely.box(-20, 0, -10, 5), shapely.box(30, 0, 40, 5)])
    assert join_across_edge(plain, DEGREES).equals(plain) and join_across_edge(parts, by_code(32601)) is parts


WITHIN = {
    "cut": {"type": "MultiPolygon", "coordinates": [[[[170, -10], [180, -10], [180, 10], [170, 10], [170, -10]]],
                                                     [[[-180, -10], [-170, -10], [-170, 10], [-180, 10], [-180, -10]]]]},
    "past": {"type": "Polygon", "coordinates": [[[170, -10], [190, -10], [190, 10], [170, 10], [170, -10]]]},
}  # fmt: skip


@pytest.mark.parametrize("start", [-180, 0])
def test_an_area_that_was_cut_is_one_area(zembrel: Program, start: int) -> None:
    """However its outline is written, 20 degrees of the world come back, not 360."""
    lon, lat = np.meshgrid(start + np.arange(360) + 0.5, 90 - np.arange(180) - 0.5)
    where = Frame(DEGREES, Affine(float(start), 90.0, 1.0, -1.0), 360, 180)
    save(
        zembrel.folder / "w.tif",
        raster((np.mod(lon, 360) + 1000 * np.round(lat + 90)).astype(np.float32), where=where),
    )
    made = []
    for name, geometry in WITHIN.items():
        text = {
            "type": "FeatureCollection",
            "features": [{"type": "Feature", "properties": {}, "geometry": geometry}],
        }
        (zembrel.folder / f"{name}.geojson").write_text(json.dumps(text))
        zembrel("clip", "w.tif", "--within", f"{name}.geojson", "--out", f"{name}.tif")
        made.append(tifffile.imread(zembrel.folder / f"{name}.tif"))
    assert made[0].shape == (20, 20)
    np.testing.assert_array_equal(made[0] % 1000, np.tile(np.arange(170.5, 190), (20, 1)))
    np.testing.assert_array_equal(*made)


def test_outlines_of_rasters_are_legal_whatever_they_cross(zembrel: Program) -> None:
    scene = np.ones((300, 300), np.float32)
    frames = {
        "utm": (32601, 100_000, 5_200_000, 2e3),
        "pole": (3413, -3e6, 3e6, 2e4),
        "past": (4326, 170, 60, 0.1),
    }
    for name, (code, west, north, cell) in frames.items():
        save(
            zembrel.folder / f"{name}.tif",
            raster(
                scene, where=Frame(by_code(code), Affine(float(west), float(north), cell, -cell), 300, 300)
            ),
        )
    zembrel("index", *(f"{name}.tif" for name in frames), "--out", "i.geojson")
    outlines = {
        f["properties"]["path"]: shape(f["geometry"])
        for f in json.loads((zembrel.folder / "i.geojson").read_text())["features"]
    }
    for path, outline in outlines.items():
        west, _, east, _ = outline.bounds
        assert outline.is_valid and -180 <= west < -179 and 179 < east <= 180, path
        assert len(shapely.get_coordinates(outline)) < 200, "an outline is as fine as half a cell"
    lon, lat = operation(by_code(32601), DEGREES)(np.array([101e3, 690e3]), np.array([5_199e3, 4_605e3]))
    assert shapely.contains_xy(outlines["utm.tif"], lon, lat).all()
    assert outlines["pole.tif"].contains(shapely.Point(10, 89)) and not outlines["utm.tif"].contains(
        shapely.Point(0, 45)
    )
    assert outlines["past.tif"].contains(shapely.Point(-175, 50)) and outlines[
        "past.tif"
    ].area == pytest.approx(900)


@pytest.mark.parametrize("code", [3413, 3031, 3035, 6933, 32601])
def test_ground_within_shapes_is_that_of_the_ellipsoid(code: int) -> None:
    """Whole caps, belts and squares against the closed formula of a zone of an ellipsoid of revolution."""
    a, f = 6378137.0, 1 / 298.257223563
    e = np.sqrt(f * (2 - f))

    def up_to(degrees: float) -> float:
        s = np.sin(np.radians(degrees))
        return float(
            np.pi * a**2 * (1 - e**2) * (s / (1 - e**2 * s**2) + np.log((1 + e * s) / (1 - e * s)) / (2 * e))
        )

    world = shapely.box(-180, -90, 180, 90)
    assert ground_areas(np.array([world], object), DEGREES, 1.0)[0] == pytest.approx(2 * up_to(90), rel=1e-9)
    past = shapely.box(100, 10, 460, 20)
    assert ground_areas(np.array([past], object), DEGREES, 1.0)[0] == pytest.approx(
        up_to(20) - up_to(10), rel=1e-9
    )
    lon = np.linspace(-180, 180, 721)
    side = np.linspace(50, 52, 40)
    here = 180.0 if code == 32601 else 10.0
    edges = [(np.linspace(here - 1, here + 1, 40), np.full(40, 50.0)), (np.full(40, here + 1), side),
             (np.linspace(here + 1, here - 1, 40), np.full(40, 52.0)), (np.full(40, here - 1), side[::-1])]  # fmt: skip
    shapes = [(np.concatenate(edges, axis=1), (up_to(52) - up_to(50)) * 2 / 360)]
    if code in (3413, 3031):
        sign = 1 if code == 3413 else -1
        shapes = [(np.stack([lon, np.full(721, sign * 70.0)]), up_to(90) - up_to(70))]
    for (x, y), due in shapes:
        ring = np.column_stack(operation(DEGREES, by_code(code))(x, y))
        found = ground_areas(np.array([shapely.Polygon(ring)], object), by_code(code), 2e3)[0]
        assert found == pytest.approx(due, rel=1e-4)


def test_an_empty_area_is_refused(zembrel: Program) -> None:
    save(
        zembrel.folder / "w.tif",
        raster(np.ones((5, 5), np.uint8), where=Frame(DEGREES, Affine(0.0, 5.0, 1.0, -1.0), 5, 5)),
    )
    for geometry in ({"type": "Polygon", "coordinates": []}, {"type": "MultiPolygon", "coordinates": []}):
        text = {
            "type": "FeatureCollection",
            "features": [{"type": "Feature", "properties": {}, "geometry": geometry}],
        }
        (zembrel.folder / "e.geojson").write_text(json.dumps(text))
        assert (
            "no polygon" in zembrel.refuses(3, "clip", "w.tif", "--within", "e.geojson", "--out", "o.tif")[0]
        )


@pytest.mark.parametrize("text", [
    "MULTILINESTRING((0 0, 10 50), EMPTY)", "MULTIPOLYGON(EMPTY, ((0 0, 9 0, 9 60, 0 0)))",
    "GEOMETRYCOLLECTION(POINT EMPTY, LINESTRING(0 0, 9 60), MULTIPOLYGON(EMPTY, ((0 0, 9 0, 9 60, 0 0))))",
])  # fmt: skip
def test_empty_parts_do_not_end_the_process(zembrel: Program, text: str) -> None:
    """The geometry package crashes on them where it divides edges."""
    feature = {
        "type": "Feature",
        "properties": {},
        "geometry": shapely.geometry.mapping(shapely.from_wkt(text)),
    }
    (zembrel.folder / "e.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "features": [feature]})
    )
    said = zembrel.apart("reproject", "e.geojson", "--crs", "EPSG:32631", "--out", "o.geojson", code=None)
    assert said.code in (0, 3), said.err
    if said.code == 0:
        (made,) = json.loads((zembrel.folder / "o.geojson").read_text())["features"]
        assert shape(made["geometry"]).length > 40
