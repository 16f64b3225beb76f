"""Names of methods and parameters in the dialects of WKT, and their way to the registry's codes."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

from zembrel.geodesy.projections import methods
from zembrel.geodesy.registryfile import row, rows

# EPSG method -> name in WKT 1; others take the registry's name with underscores.
WKT1_METHODS = {
    1024: "Popular_Visualisation_Pseudo_Mercator", 1028: "Equirectangular",
    9801: "Lambert_Conformal_Conic_1SP",
    9802: "Lambert_Conformal_Conic_2SP", 9803: "Lambert_Conformal_Conic_2SP_Belgium", 9804: "Mercator_1SP",
    9805: "Mercator_2SP", 9806: "Cassini_Soldner", 9807: "Transverse_Mercator",
    9808: "Transverse_Mercator_South_Orientated", 9809: "Oblique_Stereographic",
    9811: "New_Zealand_Map_Grid", 9812: "Hotine_Oblique_Mercator",
    9815: "Hotine_Oblique_Mercator_Azimuth_Center", 9818: "Polyconic",
    9820: "Lambert_Azimuthal_Equal_Area", 9822: "Albers_Conic_Equal_Area", 9835: "Cylindrical_Equal_Area",
}  # fmt: skip
PRJ_METHODS = {
    1024: "Mercator_Auxiliary_Sphere", 1028: "Equidistant_Cylindrical", 9801: "Lambert_Conformal_Conic",
    9802: "Lambert_Conformal_Conic", 9804: "Mercator", 9805: "Mercator", 9806: "Cassini",
    9809: "Double_Stereographic",
    9812: "Hotine_Oblique_Mercator_Azimuth_Natural_Origin", 9822: "Albers",
}  # fmt: skip
_PARAMETERS = {
    8801: "latitude_of_origin", 8802: "central_meridian", 8805: "scale_factor", 8806: "false_easting",
    8807: "false_northing", 8811: "latitude_of_center", 8812: "longitude_of_center", 8813: "azimuth",
    8814: "rectified_grid_angle", 8815: "scale_factor", 8816: "false_easting", 8817: "false_northing",
    8821: "latitude_of_origin", 8822: "central_meridian", 8823: "standard_parallel_1",
    8824: "standard_parallel_2", 8826: "false_easting", 8827: "false_northing",
}  # fmt: skip


class PrjNames(NamedTuple):
    """What a datum, and the CRSs and the ellipsoid on it, are called in .prj files."""

    geographic: str
    prefix: str  # of projected CRSs
    ellipsoid: str


PRJ_DATUMS = {
    6326: PrjNames("WGS_1984", "WGS_1984", "WGS_1984"),
    6322: PrjNames("WGS_1972", "WGS_1972", "WGS_1972"),
    6258: PrjNames("ETRS_1989", "ETRS_1989", "GRS_1980"),
    6269: PrjNames("North_American_1983", "NAD_1983", "GRS_1980"),
    6267: PrjNames("North_American_1927", "NAD_1927", "Clarke_1866"),
    6277: PrjNames("OSGB_1936", "OSGB_1936", "Airy_1830"),
}
# What a name of a parameter may mean; which of them, the method says.
_MEANINGS = {
    "latitudeoforigin": (8801, 8821, 8811, 8832), "latitudeofnaturalorigin": (8801,),
    "centralmeridian": (8802, 8822, 8812, 8833), "longitudeoforigin": (8802, 8822, 8833, 8812),
    "scalefactor": (8805, 8815, 8819), "falseeasting": (8806, 8816, 8826),
    "falsenorthing": (8807, 8817, 8827),
    "latitudeofcenter": (8811, 8801, 8821), "longitudeofcenter": (8812, 8802, 8822, 8833),
    "azimuth": (8813, 1036), "rectifiedgridangle": (8814,), "standardparallel1": (8823, 8832, 8801, 8818),
    "standardparallel2": (8824,), "pseudostandardparallel1": (8818,), "xscale": (), "yscale": (),
    "xyplanerotation": (), "auxiliaryspheretype": (),
}  # fmt: skip
# Methods under names of other dialects; where one name serves two, what parameters there are decides.
_SYNONYMS = {
    "lambertconformalconic": (9802, 9801), "mercator": (9805, 9804), "mercatorauxiliarysphere": (1024,),
    "gausskruger": (9807,), "cassini": (9806,), "doublestereographic": (9809,), "albers": (9822,),
    "equidistantcylindrical": (1028,), "platecarree": (1028,), "equirectangular": (1028,),
    "stereographicnorthpole": (9829,), "stereographicsouthpole": (9829,), "polarstereographic": (9829, 9810),
    "hotineobliquemercatorazimuthnaturalorigin": (9812,), "hotineobliquemercatorazimuthcenter": (9815,),
    "hotineobliquemercator": (9812,), "rectifiedskeworthomorphiccenter": (9815,),
    "rectifiedskeworthomorphicnaturalorigin": (9812,), "obliquemercator": (9815,), "polyconic": (9818,),
    "azimuthalequidistant": (1125,), "cylindricalequalarea": (9835,), "mercator1sp": (9804,),
    "mercator2sp": (9805,),
    "lambertconformalconic1sp": (9801,), "lambertconformalconic2sp": (9802,), "albersconicequalarea": (9822,),
    "lambertconformalconic2spbelgium": (9803,), "cassinisoldner": (9806,), "newzealandmapgrid": (9811,),
}  # fmt: skip


def plain(name: str) -> str:
    """Letters and digits in lower case."""
    return re.sub(r"[^a-z0-9]", "", name.lower())


@lru_cache(maxsize=1)
def _registered() -> dict[str, int]:
    return {plain(r["name"]): r["code"] for r in rows("SELECT code, name FROM method ORDER BY code DESC")}


@lru_cache(maxsize=1)
def _registered_parameters() -> dict[str, tuple[int, ...]]:
    found: dict[str, tuple[int, ...]] = {}
    for r in rows("SELECT code, name FROM parameter ORDER BY code"):
        found[plain(r["name"])] = (*found.get(plain(r["name"]), ()), r["code"])
    return found


def methods_of(name: str) -> tuple[int, ...]:
    """EPSG codes of the methods that `name` may mean; none if it is not known."""
    key = plain(name)
    found = _SYNONYMS.get(key, ()) or tuple(code for code, own in methods.NAMES.items() if plain(own) == key)
    return found or ((_registered()[key],) if key in _registered() else ())


@lru_cache(maxsize=128)
def parameters_of(method: int) -> tuple[int, ...]:
    """Codes of the parameters of `method`, ascending."""
    if method in methods.PARAMETERS:
        return methods.PARAMETERS[method]
    return tuple(
        r["parameter"] for r in rows("SELECT parameter FROM usage WHERE method = ? ORDER BY 1", method)
    )


def parameter_of(name: str, method: int) -> int | None:
    """The code of a parameter of `method`; None for one that says nothing, -1 for one it does not have."""
    key, due = plain(name), parameters_of(method)
    named = [code for code, own in methods.PARAMETER_NAMES.items() if code in due and plain(own) == key]
    if named:
        return named[0]
    meanings = (*_MEANINGS.get(key, ()), *_registered_parameters().get(key, ()))
    if key in _MEANINGS and not _MEANINGS[key]:
        return None
    return next((code for code in meanings if code in due), -1)


@lru_cache(maxsize=512)
def method_name(code: int) -> str:
    """The registry's name of a method."""
    if code in methods.NAMES:
        return methods.NAMES[code]
    found = row("SELECT name FROM method WHERE code = ?", code)
    return str(found["name"]) if found else f"method {code}"


@lru_cache(maxsize=512)
def parameter_name(code: int) -> str:
    """The registry's name of a parameter."""
    if code in methods.PARAMETER_NAMES:
        return methods.PARAMETER_NAMES[code]
    found = row("SELECT name FROM parameter WHERE code = ?", code)
    return str(found["name"]) if found else f"parameter {code}"


def wkt1_method(code: int, prj: bool) -> str:
    names = WKT1_METHODS | PRJ_METHODS if prj else WKT1_METHODS
    return names.get(code, method_name(code).replace(" ", "_"))


def wkt1_parameter(code: int, method: int, prj: bool) -> str:
    """A name that reads back to `code`."""
    name = _PARAMETERS.get(code, "")
    if not name or parameter_of(name, method) != code:
        name = parameter_name(code).replace(" ", "_").lower()
    return name.title() if prj else name


def prj_name(name: str) -> str:
    """A name as a word, as .prj files have them."""
    return name.replace(" / ", "_").replace(" ", "_")


def prj_title(name: str, base: str, datum: int | None) -> str:
    """What a projected CRS is called in .prj files: `WGS 84 / UTM zone 26N` is `WGS_1984_UTM_Zone_26N`."""
    usual = PRJ_DATUMS.get(datum or 0)
    first, slash, rest = name.partition(" / ")
    if usual and slash and first == base:
        name = f"{usual.prefix} / {rest}"
    return prj_name(name.replace("UTM zone", "UTM Zone"))
