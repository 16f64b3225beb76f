"""The files of the demo: which there are, and their making."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import shapely

from zembrel.demo import island
from zembrel.demo.scenes import HOME, LEGEND, Geoid, LandCover, Photo, Relief, places
from zembrel.demo.sketch import Sketch, ties
from zembrel.features.geojson import write_geojson
from zembrel.features.table import FeatureTable
from zembrel.formats.legendfile import write_legend
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import by_code
from zembrel.grid.frame import snapped
from zembrel.raster.model import Raster

PHOTO_CELL, RELIEF_CELL, COVER_CELL, GEOID_MESH = 4.0, 5.0, 10.0, 0.02  # metres, and degrees
_AROUND = (-24.3, 45.8, -23.7, 46.2)  # the island, degrees
NEIGHBOUR = 32627
_OVERLAP = 160.0  # metres by which sheets overlap at least
# name, EPSG code, column (-1 west, 0 middle, 1 east), row (1 north, -1 south), turn in degrees
_PHOTOS = (
    ("m1", HOME, -1, 1, 2.0),
    ("m2", HOME, -1, -1, 1.4),
    ("m3", HOME, 0, 1, 2.6),
    ("m4", NEIGHBOUR, 0, -1, -2.0),
    ("m5", NEIGHBOUR, 1, 1, -1.2),
    ("m6", NEIGHBOUR, 1, -1, -2.4),
)
_PLACES = {
    "Marrow Harbour": (1500.0, -1700.0),
    "Beacon Head": (-3350.0, 650.0),
    "High Marrow": (150.0, 250.0),
    "Gull Skerry": (2900.0, 1250.0),
}


def photos() -> Iterator[tuple[str, Photo]]:
    """Six orthophoto sheets in two UTM zones: overlapping, slightly turned, with dark collars."""
    wide, high = 2 * island.REACH[0] / 3, island.REACH[1]
    for name, code, column, row, turn in _PHOTOS:
        middle = island.MIDDLE[0] + column * wide, island.MIDDLE[1] + row * high / 2
        x, y = operation(by_code(HOME), by_code(code))(np.array([middle[0]]), np.array([middle[1]]))
        lean = 0.0 if code == HOME else 4.3  # degrees between the norths of the zones
        half = wide / 2 + _OVERLAP, high / 2 + _OVERLAP
        # a turned rectangle has to hold its own unturned part of the ground
        tilt = np.radians(abs(turn) + lean)
        inner = half[0] + half[1] * np.tan(tilt), half[1] + half[0] * np.tan(tilt)
        spin = np.radians(abs(turn))
        outer = inner[0] + inner[1] * np.tan(spin) + 60, inner[1] + inner[0] * np.tan(spin) + 60
        bounds = x[0] - outer[0], y[0] - outer[1], x[0] + outer[0], y[0] + outer[1]
        yield name, Photo(snapped(by_code(code), bounds, (PHOTO_CELL,) * 2), inner, turn)


def reliefs() -> Iterator[tuple[str, Relief]]:
    """Four overlapping elevation sheets: whole metres in the west, floats in the east."""
    west, south, east, north = _ground()
    cut_x, cut_y = (west + east) / 2, (south + north) / 2
    for name, kind, box in (
        ("r1", "int16", (west, cut_y - 200, cut_x + 200, north)),
        ("r2", "int16", (west, south, cut_x + 200, cut_y + 200)),
        ("r3", "float32", (cut_x - 200, cut_y - 200, east, north)),
        ("r4", "float32", (cut_x - 200, south, east, cut_y + 200)),
    ):
        yield name, Relief(snapped(by_code(HOME), box, (RELIEF_CELL,) * 2), kind)


def rasters() -> Iterator[tuple[Path, Raster]]:
    """Every raster of the demo and its place in the folder."""
    for name, photo in photos():
        yield Path("ortho") / f"{name}.tif", photo
    for name, relief in reliefs():
        yield Path("dem") / f"{name}.tif", relief
    yield Path("landcover.tif"), LandCover(snapped(by_code(HOME), _ground(), (COVER_CELL,) * 2))
    degrees = snapped(by_code(4326), _AROUND, (GEOID_MESH,) * 2, registration="node")
    yield Path("geoid.gtx"), Geoid(degrees)
    yield Path("sketch.png"), Sketch()


def texts() -> Iterator[tuple[Path, str]]:
    """Every small file of the demo."""
    yield Path("coast.geojson"), write_geojson(coast())
    yield Path("places.geojson"), write_geojson(_places())
    yield Path("landcover.legend.toml"), write_legend(LEGEND)
    yield Path("sketch-ties.csv"), ties()
    yield Path("zembrel.toml"), 'places = "places.geojson"\n'


def coast() -> FeatureTable:
    """The outline of the island and its islets, as polygons in UTM zone 26N."""
    import contourpy

    frame = snapped(by_code(HOME), _ground(), (RELIEF_CELL,) * 2)
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
    return FeatureTable(tuple(land), tuple(names), by_code(HOME))


def _places() -> FeatureTable:
    points = [shapely.Point(island.MIDDLE[0] + x, island.MIDDLE[1] + y) for x, y in _PLACES.values()]
    return FeatureTable(tuple(points), tuple({"name": name} for name in _PLACES), by_code(HOME))


def _ground() -> tuple[float, float, float, float]:
    (x, y), (east, north) = island.MIDDLE, island.REACH
    return x - east, y - north, x + east, y + north
