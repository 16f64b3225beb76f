"""Where the sun stands, seen from a place at a time.

Source: J. Meeus, "Astronomical Algorithms", 2nd edition (1998), chapters 12, 13, 22 and 25 (the sun's place
to 0.01 degrees), and 40 for its parallax; good from 1900 to 2100.
"""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

J2000 = datetime(2000, 1, 1, 12, tzinfo=UTC)
_CENTURY = 36_525.0  # days
_DYNAMICAL = 69.0  # seconds by which dynamical time is ahead of civil time, about 2010 to 2030
_PARALLAX = 8.794 / 3600  # degrees


class Sun(NamedTuple):
    """Where light comes from: degrees clockwise from north, and above the horizon."""

    azimuth: float = 315.0
    altitude: float = 45.0


class Place(NamedTuple):
    """Apparent right ascension and declination, degrees."""

    right_ascension: float
    declination: float


def place_of_sun(time: datetime) -> Place:
    """The sun's apparent place among the stars at a dynamical time."""
    t = (time - J2000) / timedelta(days=_CENTURY)
    longitude = 280.46646 + 36_000.76983 * t + 0.0003032 * t * t
    anomaly = math.radians(357.52911 + 35_999.05029 * t - 0.0001537 * t * t)
    centre = (1.914602 - 0.004817 * t - 0.000014 * t * t) * math.sin(anomaly)
    centre += (0.019993 - 0.000101 * t) * math.sin(2 * anomaly) + 0.000289 * math.sin(3 * anomaly)
    node = math.radians(125.04 - 1934.136 * t)
    apparent = math.radians(longitude + centre - 0.00569 - 0.00478 * math.sin(node))
    tilt = math.radians(_tilt(t) + 0.00256 * math.cos(node))
    ascension = math.atan2(math.cos(tilt) * math.sin(apparent), math.cos(apparent))
    declination = math.asin(math.sin(tilt) * math.sin(apparent))
    return Place(math.degrees(ascension) % 360, math.degrees(declination))


def sun_over(longitude: float, latitude: float, time: datetime) -> Sun:
    """The sun from true north and above the horizon, seen from degrees east and north, without refraction.

    time: with its offset from UTC. An altitude below zero is night.
    """
    civil = time.astimezone(UTC)
    ascension, declination = place_of_sun(civil + timedelta(seconds=_DYNAMICAL))
    days = (civil - J2000) / timedelta(days=1)
    t = days / _CENTURY
    node = math.radians(125.04 - 1934.136 * t)
    sidereal = 280.46061837 + 360.98564736629 * days + 0.000387933 * t * t
    sidereal -= 0.00478 * math.sin(node) * math.cos(math.radians(_tilt(t)))
    hour, south = math.radians(sidereal + longitude - ascension), math.radians(declination)
    here = math.radians(latitude)
    height = math.asin(math.sin(here) * math.sin(south) + math.cos(here) * math.cos(south) * math.cos(hour))
    azimuth = math.atan2(math.sin(hour), math.cos(hour) * math.sin(here) - math.tan(south) * math.cos(here))
    altitude = math.degrees(height) - _PARALLAX * math.cos(height)
    return Sun((math.degrees(azimuth) + 180) % 360, altitude)


def _tilt(t: float) -> float:
    """Degrees of the mean obliquity of the ecliptic, centuries after 2000."""
    return 23.4392911111 - (46.8150 * t + 0.00059 * t * t - 0.001813 * t**3) / 3600
