"""CRSs as text: WKT 1 in both common dialects, WKT 2 and its JSON form, written and read.

Sources: OGC 01-009 "Coordinate Transformation Services" (WKT 1); ISO 19162:2019, OGC 18-010r7 (WKT 2).
"""

from __future__ import annotations

import json
from functools import lru_cache

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, GeographicCRS, ProjectedCRS, UnresolvedCRS, VerticalCRS
from zembrel.geodesy.text import json_form, wkt_reader, wkt_writer
from zembrel.geodesy.text.tree import parse
from zembrel.nested import json_of

FORMS = ("wkt2", "wkt1", "prj", "json")


def write_crs(crs: CRS, form: str = "wkt1") -> str:
    """`crs` in one of FORMS; `prj` is WKT 1 in the dialect of .prj files. Raises InputError if undefined."""
    if isinstance(crs, UnresolvedCRS) and not (isinstance(crs, VerticalCRS) and crs.datum):
        raise crs.refuse()
    if form not in FORMS:
        raise LookupError(form)
    if form == "json":
        return json.dumps(json_form.write(crs), indent=2, ensure_ascii=False)
    if form == "wkt2":
        return wkt_writer.wkt2(crs).text()
    if form in ("wkt1", "prj") and isinstance(crs, ProjectedCRS) and not in_wkt1(crs):
        raise InputError(
            f"the CRS {crs.name} has no text of WKT 1",
            "that has no word for rotated poles",
            "write NetCDF, Zarr or GeoTIFF, or use reproject first",
        )
    if form == "prj":
        return ",".join(node.text() for node in wkt_writer.prj(crs))
    return wkt_writer.wkt1(crs).text()


def in_wkt1(crs: CRS | None) -> bool:
    """Whether WKT 1, and so a .prj file, has words for `crs`."""
    if crs is None or isinstance(crs, UnresolvedCRS):
        return False
    return isinstance(crs, GeographicCRS) or crs.unit.kind != "angle"


@lru_cache(256)
def read_crs(text: str) -> CRS:
    """The CRS of WKT of either version or of the JSON form. Raises InputError, with the position."""
    if text.lstrip().startswith("{"):
        try:
            return json_form.read(json_of(text))
        except KeyError as exc:
            why = f"it has no {exc.args[0]}"
        except json.JSONDecodeError as exc:
            why = f"{exc.msg[:1].lower()}{exc.msg[1:]} at position {exc.pos + 1}"
        except (ValueError, TypeError, AttributeError, IndexError, OverflowError):
            why = "a part of it is of the wrong kind"
        raise InputError(
            f"{text.strip()[:40]!r} is not the JSON of a CRS", why, "correct it, or give EPSG:code instead"
        )
    return wkt_reader.read(parse(text))
