"""Area phrases."""

from __future__ import annotations

import numpy as np
import pytest

from zembrel.errors import InputError, UsageError
from zembrel.geodesy.registry import by_code
from zembrel.grid.area import AroundArea, BoxArea, PathArea, PlaceArea, check_bounds, parse_area, turned
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


@pytest.mark.parametrize(
    ("text", "what", "why", "remedy"),
    [
        ("46,-124,47,-123@EPSG:4326", "area 46,-124,47,-123 looks swapped", "x comes first; ", "write -124,46,-123,47"),
        ("5,20,6,10", "area 5,20,6,10 looks swapped", "x comes first; west must be less than east and south less than north", "write 5,10,6,20"),
        ("2,5,3,1", "area 2,5,3,1 looks swapped", "x comes first; west must be less than east and south less than north", "write 2,1,3,5"),
        ("degree:N99W000", "there is no degree cell N99W000", "it lies off the globe", "write degree:N46W024"),
        ("degree:N90E000", "there is no degree cell N90E000", "it lies off the globe", "write degree:N46W024"),
        ("degree:S91E000", "there is no degree cell S91E000", "it lies off the globe", "write degree:N46W024"),
        ("degree:N00E180", "there is no degree cell N00E180", "it lies off the globe", "write degree:N46W024"),
        ("degree:N00W181", "there is no degree cell N00W181", "it lies off the globe", "write degree:N46W024"),
        ("degree:46N24W", "'46N24W' names no one-degree cell", "it is named by its south-west corner", "write degree:N46W024"),
    ],
)  # fmt: skip
def test_wrong_areas_are_told_in_three_lines(text: str, what: str, why: str, remedy: str) -> None:
    with pytest.raises(UsageError) as caught:
        parse_area(text)
    assert caught.value.what == what and caught.value.why.startswith(why)
    assert caught.value.remedy == remedy


@pytest.mark.parametrize(
    ("text", "bounds"),
    [
        ("degree:S90W180", (-180, -90, -179, -89)), ("degree:N89E179", (179, 89, 180, 90)), ("degree:s01w001", (-1, -1, 0, 0)),
        ("degree:N00E000", (0, 0, 1, 1)),
    ],
)  # fmt: skip
def test_cells_of_the_whole_globe_have_their_corners(text: str, bounds: tuple[float, ...]) -> None:
    assert parse_area(text) == BoxArea(bounds, by_code(4326))  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("text", "other"),
    [
        ("1,2,3,4", "2,1,4,3"), ("1,2,3,4@EPSG:4326", "2,1,4,3@EPSG:4326"), ("square:1,2,3km", "square:2,1,3km"),
        ("circle:1,2,3km@EPSG:4326", "circle:2,1,3km@EPSG:4326"), ("1,2,3", None), ("circle:1,2", None), ("place:a,b,c,d,e", None),
        ("square:1,2,3,4", None), ("a.tif", None),
    ],
)  # fmt: skip
def test_phrases_are_turned_number_by_number(text: str, other: str | None) -> None:
    assert turned(text) == other


@pytest.mark.parametrize(
    ("bounds", "code", "said"),
    [
        ((46, -124, 47, -123), 4326, ("area 46,-124,47,-123 looks swapped", "x comes first; latitude comes second", "write -124,46,-123,47")),
        ((0, 90.5, 1, 91), 4326, ("area 0,90.5,1,91 looks swapped", "x comes first; latitude comes second", "write 90.5,0,91,1")),
        ((3, 5, 2, 1), 4326, ("area 3,5,2,1 holds nothing", "south must be less than north and west less than east", "did you mean 2,1,3,5?")),
        ((0, 5, 1, 5), 32626, ("area 0,5,1,5 holds nothing", "south must be less than north and west less than east", "did you mean 0,5,1,5?")),
        ((5, 1, 5, 2), 32626, ("area 5,1,5,2 holds nothing", "south must be less than north and west less than east", "did you mean 5,1,5,2?")),
        ((6, 1, 5, 2), 32626, ("area 6,1,5,2 holds nothing", "south must be less than north and west less than east", "did you mean 5,1,6,2?")),
        ((6, 1, 5, 2), None, ("area 6,1,5,2 holds nothing", "south must be less than north and west less than east", "did you mean 5,1,6,2?")),
    ],
)  # fmt: skip
def test_bounds_that_hold_nothing_are_told(
    bounds: tuple[float, float, float, float], code: int | None, said: tuple[str, str, str]
) -> None:
    with pytest.raises(UsageError) as caught:
        check_bounds(bounds, by_code(code) if code is not None else None)
    assert (caught.value.what, caught.value.why, caught.value.remedy) == said


@pytest.mark.parametrize(
    ("bounds", "code"),
    [((-180, -90, 180, 90), 4326), ((179, -17, -179, -16), 4326), ((5, 1, 5, 2), 4326), ((90, -90, 91, 90), 4326),
     ((100, 1e6, 101, 2e6), 32626), ((0, 0, 1e-9, 1e-9), None)],
)  # fmt: skip
def test_bounds_that_hold_something_are_taken(
    bounds: tuple[float, float, float, float], code: int | None
) -> None:
    check_bounds(bounds, by_code(code) if code is not None else None)
