"""The features of the demo: places, the coast, parcels of land and walkers' tracks."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, timedelta

import numpy as np
import shapely

from zembrel.demo import island
from zembrel.demo.scenes import HOME, places
from zembrel.features.table import FeatureTable
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import Array, snapped

PLACES = {
    "Marrow Harbour": (1500.0, -1700.0),
    "Beacon Head": (-3350.0, 650.0),
    "High Marrow": (150.0, 250.0),
    "Gull Skerry": (2900.0, 1250.0),
}
COAST_CELL = 5.0  # metres of the grid the coast is found in
_PARCELS, _TRACKS = 90, 36
_USES = ("pasture", "heath", "garden", "common")
_WALKERS = ("Ansel", "Brid", "Corin", "Dunja", "Edda")
_STEP, _STEPS = 45.0, 70  # metres of a walker's step, and how many at most
_HIGHEST = 420.0  # metres, above which nobody walks


def ground() -> tuple[float, float, float, float]:
    """West, south, east and north of the island and the sea around it."""
    (x, y), (east, north) = island.MIDDLE, island.REACH
    return x - east, y - north, x + east, y + north


def coast() -> FeatureTable:
    """The outline of the island and its islets, as polygons in UTM zone 26N."""
    import contourpy

    frame = snapped(by_code(HOME), ground(), (COAST_CELL,) * 2)
    x, y = places(frame, frame.pane)
    field = island.inland(x, y).reshape(frame.rows, frame.columns)
    east, north = (
        x.reshape(field.shape)[0] + island.MIDDLE[0],
        y.reshape(field.shape)[:, 0] + island.MIDDLE[1],
    )
    lines = contourpy.contour_generator(east, north, field, name="serial").lines(0.0)
    rings = [shapely.Polygon(line) for line in lines if len(line) > 3]
    rings = sorted((r.simplify(1.0) for r in rings if r.area > 2_000 and r.is_valid), key=lambda r: -r.area)
    land = [ring for n, ring in enumerate(rings) if not any(other.contains(ring) for other in rings[:n])]
    names = [{"name": "Isle of Marrowick", "kind": "island"}] + [{"name": "", "kind": "islet"}] * (
        len(land) - 1
    )
    return FeatureTable.of(land, names, by_code(HOME))


def named_places() -> FeatureTable:
    """Points with a name."""
    points = [shapely.Point(island.MIDDLE[0] + x, island.MIDDLE[1] + y) for x, y in PLACES.values()]
    return FeatureTable.of(points, [{"name": name} for name in PLACES], by_code(HOME))


def parcels(land: FeatureTable) -> FeatureTable:
    """Parcels of the main island, without gap or overlap; one more is drawn as a bow-tie."""
    numbers = np.random.default_rng(41)
    main = land.geometries[0].buffer(-25).buffer(25)
    west, south, east, north = main.bounds
    seeds = numbers.uniform((west, south), (east, north), (_PARCELS * 3, 2))
    seeds = seeds[shapely.contains_xy(main, seeds)][:_PARCELS]
    cells = shapely.get_parts(shapely.voronoi_polygons(shapely.MultiPoint(seeds), extend_to=main))
    shapes = [part for part in shapely.intersection(cells, main) if not part.is_empty]
    shapes.sort(key=lambda shape: (-round(shape.centroid.y, 3), shape.centroid.x))
    rows = [
        {"number": n, "use": str(numbers.choice(_USES)), "leased": bool(numbers.random() < 0.4),
         "rent": round(shape.area / 1e4 * numbers.uniform(3, 9), 2)}
        for n, shape in enumerate(shapes, 1)
    ]  # fmt: skip
    x, y = island.MIDDLE[0] + 350, island.MIDDLE[1] - 200
    bow = shapely.Polygon([(x, y), (x + 160, y + 120), (x + 160, y), (x, y + 120)])
    rows.append({"number": len(shapes) + 1, "use": "garden", "leased": False, "rent": 4.5})
    return FeatureTable.of([*shapes, bow], rows, by_code(HOME))


def tracks(land: FeatureTable) -> FeatureTable:
    """Where walkers went: lines on land and below the summits, with who, when, how fast and on what."""
    numbers = np.random.default_rng(7)
    lines: list[shapely.LineString] = []
    rows = []
    while len(lines) < _TRACKS:
        path = np.array(list(_walk(numbers)))
        if len(path) < 12:
            continue
        lines.append(shapely.LineString(np.round(path + island.MIDDLE, 1)))
        rows.append(
            {
                "walker": str(numbers.choice(_WALKERS)),
                "day": date(2026, 4, 1) + timedelta(int(numbers.integers(0, 150))),
                "speed": round(float(numbers.normal(4.2, 0.6)), 2),
                "kind": "path" if numbers.random() < 0.7 else "road",
            }
        )
    return FeatureTable.of(lines, rows, by_code(HOME))


def _walk(numbers: np.random.Generator) -> Iterator[Array]:
    at = np.array(list(PLACES.values()))[numbers.integers(0, 3)] + numbers.normal(0, 220, 2)
    heading = numbers.uniform(0, 2 * np.pi)
    for _ in range(int(numbers.integers(_STEPS // 3, _STEPS))):
        height = island.heights(at[:1], at[1:])[0]
        if not 1.0 < height < _HIGHEST:
            return
        yield at.copy()
        heading += numbers.normal(0, 0.35)
        at = at + _STEP * np.array([np.cos(heading), np.sin(heading)])
