"""CRSs by code and name: the seam behind which the whole registry will stand.

For now it knows WGS 84, NAD83 and ETRS89, their UTM zones and web Mercator. Codes, names and
values are those of the EPSG Geodetic Parameter Dataset, owned by IOGP.
"""

from __future__ import annotations

import math
from functools import lru_cache

from zembrel.errors import InputError, nearest_name
from zembrel.geodesy.crs import CRS, Conversion, Datum, GeographicCRS, ProjectedCRS
from zembrel.geodesy.ellipsoid import GRS_1980, WGS_84

_GEOGRAPHIC = {
    4326: GeographicCRS("WGS 84", Datum("World Geodetic System 1984 ensemble", WGS_84, code=6326), code=4326),
    4269: GeographicCRS("NAD83", Datum("North American Datum 1983", GRS_1980, code=6269), code=4269),
    4258: GeographicCRS(
        "ETRS89", Datum("European Terrestrial Reference System 1989 ensemble", GRS_1980, code=6258), code=4258
    ),
}
# Runs of consecutive UTM codes: first code, base CRS, first zone, number of zones, hemisphere.
_UTM_RUNS = (
    (32601, 4326, 1, 60, "N"),
    (32701, 4326, 1, 60, "S"),
    (26901, 4269, 1, 23, "N"),
    (9712, 4269, 24, 1, "N"),
    (3372, 4269, 59, 2, "N"),
    (25828, 4258, 28, 10, "N"),
)


def by_code(code: int) -> CRS:
    """The CRS of EPSG `code`. Raises InputError, with near misses, if it is not known."""
    crs = _known().get(code)
    if crs is None:
        near = sorted(_known(), key=lambda known: (abs(known - code), known))[:3]
        raise InputError(
            f"EPSG:{code} is not a CRS Zembrel knows",
            "it knows WGS 84, NAD83 and ETRS89 with their UTM zones, and web Mercator",
            "near are " + ", ".join(f"EPSG:{n} {_known()[n].name}" for n in near),
        )
    return crs


def by_name(name: str) -> CRS:
    """The CRS of a registry name, upper or lower case. Raises InputError, with the near miss."""
    names = {crs.name.lower(): crs for crs in _known().values()}
    if name.lower() not in names:
        raise InputError(
            f"{name!r} is not a CRS Zembrel knows",
            "neither EPSG:code nor a name of the registry",
            nearest_name(name, [crs.name for crs in _known().values()]).partition("known are")[0]
            or "write for example EPSG:32626",
        )
    return names[name.lower()]


def parse_crs(text: str) -> CRS:
    """A CRS from `EPSG:code` or a registry name. Raises InputError."""
    prefix, _, code = text.strip().partition(":")
    if prefix.lower() == "epsg" and code.strip().isdigit():
        return by_code(int(code))
    return by_name(text.strip())


@lru_cache(maxsize=1)
def _known() -> dict[int, CRS]:
    known: dict[int, CRS] = dict(_GEOGRAPHIC)
    for first, base, zone, count, hemisphere in _UTM_RUNS:
        for step in range(count):
            known[first + step] = _utm(first + step, _GEOGRAPHIC[base], zone + step, hemisphere)
    web = Conversion(
        "Popular Visualisation Pseudo-Mercator", 1024, ((8801, 0.0), (8802, 0.0), (8806, 0.0), (8807, 0.0))
    )
    known[3857] = ProjectedCRS("WGS 84 / Pseudo-Mercator", _GEOGRAPHIC[4326], web, code=3857)
    return known


def _utm(code: int, base: GeographicCRS, zone: int, hemisphere: str) -> ProjectedCRS:
    parameters = (
        (8801, 0.0),
        (8802, math.radians(6 * zone - 183)),
        (8805, 0.9996),
        (8806, 500_000.0),
        (8807, 0.0 if hemisphere == "N" else 10_000_000.0),
    )
    conversion = Conversion(f"UTM zone {zone}{hemisphere}", 9807, parameters)
    return ProjectedCRS(f"{base.name} / UTM zone {zone}{hemisphere}", base, conversion, code=code)
