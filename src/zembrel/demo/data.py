"""The files of the demo: which there are, and their making."""

from __future__ import annotations

from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

import numpy as np

from zembrel.demo import island
from zembrel.demo.scenes import HOME, LEGEND, Geoid, LandCover, Photo, Relief
from zembrel.demo.shapes import coast, ground, named_places, parcels, tracks
from zembrel.demo.sketch import Sketch, ties
from zembrel.features.files.geojson import write_geojson
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
    west, south, east, north = ground()
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
    yield Path("landcover.tif"), LandCover(snapped(by_code(HOME), ground(), (COVER_CELL,) * 2))
    degrees = snapped(by_code(4326), _AROUND, (GEOID_MESH,) * 2, registration="node")
    yield Path("geoid.gtx"), Geoid(degrees)
    yield Path("sketch.png"), Sketch()


def texts() -> Iterator[tuple[Path, str]]:
    """Every small file of the demo."""
    land = coast()
    yield Path("coast.geojson"), write_geojson(land)
    yield Path("places.geojson"), write_geojson(named_places())
    yield Path("parcels.geojson"), write_geojson(parcels(land))
    yield Path("tracks.geojson"), write_geojson(tracks(land))
    yield Path("landcover.legend.toml"), write_legend(LEGEND)
    yield Path("sketch-ties.csv"), ties()
    yield Path("island.job.toml"), (files(__package__) / "island.job.toml").read_text("utf-8")
    yield Path("zembrel.toml"), 'places = "places.geojson"\n'
