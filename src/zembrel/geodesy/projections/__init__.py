"""Map projections, one file per family: pure functions of arrays, in radians and metres.

`build` is the one door. A projection takes longitudes from the prime meridian of its base CRS and
answers NaN outside its domain.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Protocol

from zembrel.errors import InputError
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.projections import mercator, transverse_mercator

Parameters = Mapping[int, float]


class Projection(Protocol):
    """Longitude and latitude in radians to easting and northing in metres, and back."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]: ...
    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]: ...


METHODS: dict[int, Callable[[Ellipsoid, Parameters], Projection]] = {
    1024: mercator.pseudo,
    9807: transverse_mercator.build,
}


def build(method: int, ellipsoid: Ellipsoid, parameters: Parameters) -> Projection:
    """The projection of EPSG method code `method`.

    Raises InputError if the method is not known.
    """
    if method not in METHODS:
        raise InputError(
            f"projection method EPSG:{method} is not known to Zembrel",
            "coordinates in it cannot be computed",
            f"known methods are {', '.join(map(str, sorted(METHODS)))}",
        )
    return METHODS[method](ellipsoid, parameters)
