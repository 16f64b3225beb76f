"""Suns as people ask for them: by azimuth and altitude, at a time, or in the hours of a day."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

import numpy as np

from zembrel.errors import InputError, UsageError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS
from zembrel.geodesy.sun import Sun, sun_over
from zembrel.grid.frame import Array, Frame
from zembrel.raster.relief import NORTH_WEST
from zembrel.raster.terrain import FARTHEST, Ray, disc

Suns = dict[str, tuple[Sun, ...]]


def ray_to(sun: Sun, frame: Frame, scales: Array, relief: float) -> Ray:
    """The way to a sun over the cells of a frame whose heights differ by `relief` at most."""
    affine, (across, along) = frame.affine, scales[frame.rows // 2].tolist()
    azimuth = math.radians(sun.azimuth)
    x, y = math.sin(azimuth) / across, math.cos(azimuth) / along
    size = affine.x_col * affine.y_row - affine.x_row * affine.y_col
    columns = (affine.y_row * x - affine.x_row * y) / size
    rows = (affine.x_col * y - affine.y_col * x) / size
    longest = max(abs(columns), abs(rows))
    lower = disc(sun)[0]
    steps = relief / lower * longest + 1 if lower > 0 else float(FARTHEST)
    return Ray(rows / longest, columns / longest, 1 / longest, min(math.ceil(steps), FARTHEST))


def suns_of(texts: Sequence[str], at: str | None, hours: str | None, frame: Frame) -> tuple[Suns, list[Fact]]:
    """The suns of each band, by its name, and a word on each: by `AZIMUTH,ALTITUDE` each, else at a time, or
    in hours of that day, over the middle of a frame.

    Raises UsageError for what cannot be read, InputError for a frame that is nowhere on the Earth.
    """
    if at:
        return _by_time(at, hours, frame)
    suns = tuple(map(_sun, texts)) or (NORTH_WEST,)
    return {"hillshade": suns}, [fact("suns", suns=tuple((sun.azimuth, sun.altitude) for sun in suns))]


def _sun(text: str) -> Sun:
    try:
        azimuth, altitude = (float(part) for part in text.split(","))
    except ValueError:
        azimuth = altitude = math.nan
    if not (0 < altitude <= 90 and 0 <= azimuth <= 360):
        raise UsageError(
            f"--sun {text}", "an azimuth of 0 to 360 and an altitude of up to 90 degrees are needed",
            "write --sun 315,45",
        )  # fmt: skip
    return Sun(azimuth, altitude)


def _by_time(at: str, hours: str | None, frame: Frame) -> tuple[Suns, list[Fact]]:
    time, suns = _time(at, bool(hours)), Suns()
    lon, lat = _place(frame)
    if not hours:
        sun = sun_over(lon, lat, time)
        return {"hillshade": (sun,)}, [fact("sun", azimuth=sun.azimuth, altitude=sun.altitude)]
    dark = 0
    for hour in _hours(hours):
        sun = sun_over(lon, lat, time + timedelta(hours=hour))
        suns[f"hillshade_{hour:02}h"] = (sun,)
        dark += sun.altitude <= 0
    chose = [fact("hours", hours=len(suns), day=f"{time:%Y-%m-%d}", zone=time.tzname())]
    return suns, chose + ([fact("dark_hours", hours=dark)] if dark else [])


def _time(text: str, day: bool) -> datetime:
    try:
        time = datetime.fromisoformat(text)
    except ValueError as exc:
        raise UsageError(f"--sun-at {text}", f"{exc}", "write --sun-at 2027-06-21T15:00Z") from exc
    if day and len(text) == 10:
        return time.replace(tzinfo=UTC)
    if time.tzinfo is None or not 1900 <= time.year <= 2100:
        raise UsageError(
            f"--sun-at {text}", "a time of 1900 to 2100 with its zone is needed, or a day with --hours",
            f"write --sun-at {text[:10]}T15:00Z, or +01:00 for another zone",
        )  # fmt: skip
    return time.replace(hour=0, minute=0, second=0) if day else time


def _hours(text: str) -> range:
    first, _, last = text.partition("-")
    if not (first.isdigit() and last.isdigit() and 0 <= int(first) <= int(last) <= 24):
        raise UsageError(f"--hours {text}", "two hours of a day are needed", "write --hours 6-20")
    return range(int(first), int(last) + 1)


def _place(frame: Frame) -> tuple[float, float]:
    """Degrees east and north in the middle of a frame. Raises InputError if nothing tells."""
    crs = frame.crs
    if not isinstance(crs, GeographicCRS | ProjectedCRS):
        raise InputError(
            "the layer's place on the Earth is unknown",
            "the sun's depends on it",
            "add --from-crs, or give --sun",
        )
    x, y = frame.centres(np.array([(frame.columns - 1) / 2]), np.array([(frame.rows - 1) / 2]))
    lon, lat = crs.to_geographic(np.asarray(x), np.asarray(y))
    return math.degrees(float(lon[0])), math.degrees(float(lat[0]))
