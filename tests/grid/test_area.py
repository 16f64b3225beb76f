"""Area phrases."""

from __future__ import annotations

import numpy as np
import pytest

from zembrel.errors import InputError, UsageError
from zembrel.geodesy.registry import by_code
from zembrel.grid.area import AroundArea, BoxArea, PathArea, PlaceArea, parse_area
from zembrel.measure import parse_length


def test_phrases_are_what_they_say() -> None:
    assert parse_area("1,2,3,4") == BoxArea((1, 2, 3, 4))
    assert parse_area("-24,46,-23,47@EPSG:4326") == BoxArea((-24, 46, -23, 47), by_code(4326))
    assert parse_area("179,-17,-179,-16@EPSG:4326") == BoxArea((179, -17, -179, -16), by_code(4326))
    assert parse_area("degree:S05E100") == BoxArea((100, -5, 101, -4), by_code(4326))
    assert parse_area("degree:n46w024") == BoxArea((-24, 46, -23, 47), by_code(4326))
    assert parse_area("place:Beacon Head") == PlaceArea("Beacon Head")
    assert parse_area("square:5,6,2km") == AroundArea("square", 5, 6, parse_length("2km"))
    assert parse_area("./square:1") == PathArea("./square:1")
    assert parse_area("sheet@2.tif") == PathArea("sheet@2.tif")


@pytest.mark.parametrize(
    "text, hint",
    [
        ("46,-124,47,-123@EPSG:4326", "write -124,46,-123,47"),
        ("5,20,6,10", "write 5,10,6,20"),
        ("1,2,3", "write W,S,E,N"),
        ("square:1,2", "write square:X,Y,2km@CRS"),
        ("circle:1,2,0m", "write for example 2km"),
        ("circle:46,-124,1km@EPSG:4326", "write circle:-124,46,1km@EPSG:4326"),
        ("degree:N99W000", "write degree:N46W024"),
        ("degree:46N24W", "write degree:N46W024"),
    ],
)
def test_wrong_phrases_are_refused_with_the_hint(text: str, hint: str) -> None:
    with pytest.raises(UsageError) as caught:
        parse_area(text)
    assert caught.value.remedy == hint


def test_an_unknown_crs_after_numbers_is_not_taken_for_a_path() -> None:
    with pytest.raises(InputError):
        parse_area("1,2,3,4@EPSG:99999")


@pytest.mark.parametrize("code", [32626, 4326])
def test_a_circle_is_round_on_the_ground(code: int) -> None:
    """2 km around a point, in degrees too, within the flattening of the parallel."""
    crs = by_code(code)
    x, y = (732_000.0, 5_098_000.0) if code == 32626 else (-24.0, 46.0)
    ring = np.array(AroundArea("circle", x, y, parse_length("2km"), crs).ring(crs))
    lon, lat = crs.to_geographic(ring[:, 0], ring[:, 1])
    lon0, lat0 = crs.to_geographic(np.array([x]), np.array([y]))
    parallel, meridian = (
        float(radius(lat0[0]))
        for radius in (crs.datum.ellipsoid.parallel_radius, crs.datum.ellipsoid.meridian_radius)
    )
    away = np.hypot((lon - lon0) * parallel, (lat - lat0) * meridian)
    assert away == pytest.approx(2000, rel=1e-3)
