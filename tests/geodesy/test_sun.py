"""The sun's place, against examples that were published with their results."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone

import pytest

from zembrel.geodesy.sun import place_of_sun, sun_over


def test_the_place_among_the_stars_is_that_of_an_almanac() -> None:
    """J. Meeus, Astronomical Algorithms, example 25.b: the rigorous values for 1992 October 13, 0h."""
    place = place_of_sun(datetime(1992, 10, 13, tzinfo=UTC))
    assert place.right_ascension == pytest.approx(198.378178, abs=0.005)
    assert place.declination == pytest.approx(-7.783871, abs=0.005)


def test_the_place_in_the_sky_is_that_of_a_published_example() -> None:
    """I. Reda, A. Andreas, Solar Position Algorithm, NREL/TP-560-34302, table A5.1, without refraction."""
    time = datetime(2003, 10, 17, 12, 30, 30, tzinfo=timezone(-timedelta(hours=7)))
    sun = sun_over(-105.1786, 39.742476, time)
    assert sun.azimuth == pytest.approx(194.340241, abs=0.01)
    assert sun.altitude == pytest.approx(39.872046, abs=0.01)


@pytest.mark.parametrize("latitude", [-60.0, 0.0, 23.0, 70.0])
def test_noon_is_when_the_sun_is_highest_and_in_the_meridian(latitude: float) -> None:
    day = datetime(2027, 3, 20, tzinfo=UTC)
    suns = [sun_over(-24.0, latitude, day + timedelta(minutes=n)) for n in range(0, 1440, 2)]
    highest = max(suns, key=lambda sun: sun.altitude)
    assert highest.altitude == pytest.approx(90 - abs(latitude), abs=0.4)  # at the equinox
    if latitude:
        towards = 180.0 if latitude > 0 else 0.0
        assert abs((highest.azimuth - towards + 180) % 360 - 180) < 1.5
    assert sum(sun.altitude > 0 for sun in suns) / len(suns) == pytest.approx(0.5, abs=0.01)
