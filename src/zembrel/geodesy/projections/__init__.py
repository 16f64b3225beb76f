"""Map projections, one file per family: pure functions of arrays, in radians and metres.

`build` is the one door. A projection takes longitudes from the prime meridian of its base CRS and
answers NaN outside its domain. In west- and south-orientated systems x = -westing and y = -southing.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Protocol

import numpy as np

from zembrel.errors import InputError
from zembrel.geodesy.ellipsoid import Array, Ellipsoid
from zembrel.geodesy.projections import (
    arcs,
    azimuthal,
    conformal_cone,
    equal_area,
    mercator,
    oblique,
    transverse_mercator,
    world,
)

Parameters = Mapping[int, float]
_PROBE = np.zeros(1)


class Projection(Protocol):
    """Longitude and latitude in radians to easting and northing in metres, and back."""

    def forward(self, lon: Array, lat: Array) -> tuple[Array, Array]: ...
    def inverse(self, x: Array, y: Array) -> tuple[Array, Array]: ...


METHODS: dict[int, Callable[[Ellipsoid, Parameters], Projection]] = {
    1024: mercator.pseudo,
    1027: equal_area.spherical_lambert_azimuthal,
    1028: mercator.equidistant,
    1029: mercator.spherical_equidistant,
    1041: oblique.krovak,
    1042: oblique.krovak,
    1043: oblique.krovak,
    1051: conformal_cone.two_parallels,
    1052: arcs.colombia_urban,
    1078: equal_area.equal_earth,
    1102: conformal_cone.one_parallel,
    1111: transverse_mercator.build,
    1125: azimuthal.azimuthal_equidistant,
    1130: azimuthal.local_orthographic,
    9801: conformal_cone.one_parallel,
    9802: conformal_cone.two_parallels,
    9803: conformal_cone.belgian,
    9804: mercator.by_scale,
    9805: mercator.by_parallel,
    9806: arcs.cassini,
    9807: transverse_mercator.build,
    9808: transverse_mercator.build_south_orientated,
    9809: oblique.stereographic,
    9810: conformal_cone.polar_by_scale,
    9811: azimuthal.new_zealand,
    9812: oblique.hotine,
    9813: oblique.laborde,
    9815: oblique.hotine,
    9816: azimuthal.tunisia,
    9817: arcs.near_conformal,
    9818: arcs.polyconic,
    9819: oblique.krovak,
    9820: equal_area.lambert_azimuthal,
    9822: equal_area.albers,
    9824: transverse_mercator.build_zoned,
    9826: conformal_cone.west_orientated,
    9827: arcs.bonne,
    9828: arcs.south_orientated_bonne,
    9829: conformal_cone.polar_by_parallel,
    9830: conformal_cone.polar_by_parallel,
    9831: arcs.guam,
    9832: azimuthal.modified_azimuthal_equidistant,
    9833: arcs.hyperbolic_cassini,
    9834: equal_area.spherical_cylinder,
    9835: equal_area.cylinder,
    world.SINUSOIDAL: arcs.sinusoidal,
    world.MOLLWEIDE: world.mollweide,
    world.ROBINSON: world.robinson,
    world.WINKEL_TRIPEL: world.winkel_tripel,
}


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
        made = METHODS[method](ellipsoid, parameters)
        made.inverse(*made.forward(_PROBE, _PROBE))
    except (ArithmeticError, ValueError) as exc:
        raise InputError(
            f"projection method EPSG:{method} makes no map of these parameters",
            "a cone without slope, an origin at infinity or the like",
            "correct the parameters",
        ) from exc
    return made
