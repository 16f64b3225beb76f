"""Map projections, one file per family: pure functions of arrays, in radians and metres.

`build` is the one door. A projection takes longitudes from the prime meridian of its base CRS and
answers NaN outside its domain. In west- and south-orientated systems x = -westing and y = -southing.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Protocol, cast

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.projections.methods import METHODS

Parameters = Mapping[int, float]
_PROBE = np.zeros(1)


class Projection(Protocol):
    """Longitude and latitude in radians to easting and northing in metres, and back."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]: ...
    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]: ...


def build(method: int, ellipsoid: Ellipsoid, parameters: Parameters) -> Projection:
    """The projection of EPSG method code `method`.

    Raises InputError if the method is not known, or no map comes of the parameters.
    """
    if method not in METHODS:
        raise InputError(
            f"projection method EPSG:{method} is not known to Zembrel",
            "coordinates in it cannot be computed",
            f"known methods are {', '.join(map(str, sorted(METHODS)))}",
        )
    try:
        made = _builder(METHODS[method])(ellipsoid, parameters)
        made.inverse(*made.forward(_PROBE, _PROBE))
    except (ArithmeticError, ValueError) as exc:
        raise InputError(
            f"projection method EPSG:{method} makes no map of these parameters",
            "a cone without slope, an origin at infinity or the like",
            "correct the parameters",
        ) from exc
    return made


def _builder(name: str) -> Callable[[Ellipsoid, Parameters], Projection]:
    family, _, function = name.partition(".")
    found = getattr(import_module(f"{__name__}.{family}"), function)
    return cast(Callable[[Ellipsoid, Parameters], Projection], found)
