"""Which function builds the projection of which method.

Families are imported when one of theirs is asked for. Methods without an EPSG code, which definitions
name all the same, have negative numbers here.
"""

from __future__ import annotations

SINUSOIDAL, MOLLWEIDE, ROBINSON, WINKEL_TRIPEL, ROTATED_POLE = -1, -2, -3, -4, -5  # in place of EPSG codes
NAMES = {
    SINUSOIDAL: "Sinusoidal", MOLLWEIDE: "Mollweide", ROBINSON: "Robinson", WINKEL_TRIPEL: "Winkel Tripel",
    ROTATED_POLE: "Pole rotation",
}  # fmt: skip
_USUAL = (8802, 8806, 8807)
POLE_LATITUDE, POLE_LONGITUDE, POLE_WITHIN = -11, -12, -13
PARAMETERS = {
    SINUSOIDAL: _USUAL, MOLLWEIDE: _USUAL, ROBINSON: _USUAL, WINKEL_TRIPEL: (*_USUAL, 8823),
    ROTATED_POLE: (POLE_LATITUDE, POLE_LONGITUDE, POLE_WITHIN),
}  # fmt: skip
PARAMETER_NAMES = {
    POLE_LATITUDE: "Latitude of rotated pole", POLE_LONGITUDE: "Longitude of rotated pole",
    POLE_WITHIN: "Axis rotation",
}  # fmt: skip

# method -> family and builder
METHODS: dict[int, str] = {
    1024: "mercator.pseudo",
    1027: "equal_area.spherical_lambert_azimuthal",
    1028: "mercator.equidistant",
    1029: "mercator.spherical_equidistant",
    1041: "oblique.krovak",
    1042: "oblique.krovak",
    1043: "oblique.krovak",
    1051: "conformal_cone.two_parallels",
    1052: "arcs.colombia_urban",
    1078: "equal_area.equal_earth",
    1102: "conformal_cone.one_parallel",
    1111: "transverse_mercator.build",
    1125: "azimuthal.azimuthal_equidistant",
    1130: "azimuthal.local_orthographic",
    9801: "conformal_cone.one_parallel",
    9802: "conformal_cone.two_parallels",
    9803: "conformal_cone.belgian",
    9804: "mercator.by_scale",
    9805: "mercator.by_parallel",
    9806: "arcs.cassini",
    9807: "transverse_mercator.build",
    9808: "transverse_mercator.build_south_orientated",
    9809: "oblique.stereographic",
    9810: "conformal_cone.polar_by_scale",
    9811: "azimuthal.new_zealand",
    9812: "oblique.hotine",
    9813: "oblique.laborde",
    9815: "oblique.hotine",
    9816: "azimuthal.tunisia",
    9817: "arcs.near_conformal",
    9818: "arcs.polyconic",
    9819: "oblique.krovak",
    9820: "equal_area.lambert_azimuthal",
    9822: "equal_area.albers",
    9824: "transverse_mercator.build_zoned",
    9826: "conformal_cone.west_orientated",
    9827: "arcs.bonne",
    9828: "arcs.south_orientated_bonne",
    9829: "conformal_cone.polar_by_parallel",
    9830: "conformal_cone.polar_by_parallel",
    9831: "arcs.guam",
    9832: "azimuthal.modified_azimuthal_equidistant",
    9833: "arcs.hyperbolic_cassini",
    9834: "equal_area.spherical_cylinder",
    9835: "equal_area.cylinder",
    SINUSOIDAL: "arcs.sinusoidal",
    MOLLWEIDE: "world.mollweide",
    ROBINSON: "world.robinson",
    WINKEL_TRIPEL: "world.winkel_tripel",
    ROTATED_POLE: "rotated.rotated_pole",
}
