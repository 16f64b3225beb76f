"""What heights mean, as text: vertical CRSs and the third axis, written and read.

Sources: OGC 01-009, section 7 (VERT_CS; datum type 2002 is the ellipsoid); ISO 19162:2019, sections 10 and
16; in .prj files a VERTCS follows the horizontal CRS after a comma.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace
from functools import lru_cache
from typing import Any

from zembrel.errors import InputError
from zembrel.geodesy.crs import ELLIPSOIDAL, VerticalCRS, VerticalDatum
from zembrel.geodesy.registry import by_code
from zembrel.geodesy.registryfile import rows
from zembrel.geodesy.text.names import plain
from zembrel.geodesy.text.tree import TextNode, Word
from zembrel.geodesy.units import METRE, Unit

Object = dict[str, Any]
_ORTHOMETRIC, _ELLIPSOID = 2005.0, 2002.0
DATUMS = ("VDATUM", "VRF", "VERTICALDATUM", "VERT_DATUM", "ENSEMBLE", "DATUM")


def _id(code: int | None, keyword: str = "ID") -> tuple[TextNode, ...]:
    if not code:
        return ()
    return (TextNode(keyword, ("EPSG", float(code) if keyword == "ID" else f"{code}")),)


def _direction(crs: VerticalCRS) -> str:
    return "down" if crs.down else "up"


def wkt1(crs: VerticalCRS) -> TextNode:
    """VERT_CS of WKT 1."""
    kind = _ELLIPSOID if crs.datum is None else _ORTHOMETRIC
    own = crs.datum or VerticalDatum("Ellipsoid")
    datum = TextNode("VERT_DATUM", (own.name, kind, *_id(own.code, "AUTHORITY")))
    axis = TextNode("AXIS", ("Depth" if crs.down else "Up", Word(_direction(crs).upper())))
    unit = TextNode("UNIT", (crs.unit.name, crs.unit.factor))
    return TextNode("VERT_CS", (crs.name, datum, unit, axis, *_id(crs.code, "AUTHORITY")))


def prj(crs: VerticalCRS, geodetic: tuple[str, TextNode]) -> TextNode:
    """VERTCS of .prj files. geodetic: name and DATUM of the geographic CRS, for heights on its ellipsoid."""
    if crs.datum is None:
        name, datum = geodetic[0].removeprefix("GCS_"), geodetic[1]
    else:
        name, datum = _underscored(crs.name), TextNode("VDATUM", (_underscored(crs.datum.name),))
    unit = TextNode("UNIT", (crs.unit.name.title().replace(" ", "_"), crs.unit.factor))
    shift, sense = (
        TextNode("PARAMETER", (word, value))
        for word, value in (("Vertical_Shift", 0.0), ("Direction", -1.0 if crs.down else 1.0))
    )
    return TextNode("VERTCS", (name, datum, shift, sense, unit))


def _underscored(name: str) -> str:
    return name.replace(" ", "_")


def wkt2(crs: VerticalCRS) -> TextNode:
    """VERTCRS of WKT 2."""
    assert crs.datum is not None
    datum = TextNode("VDATUM", (crs.datum.name, *_id(crs.datum.code)))
    label = "depth (D)" if crs.down else "gravity-related height (H)"
    axis = TextNode("AXIS", (label, Word(_direction(crs))))
    return TextNode(
        "VERTCRS",
        (crs.name, datum, TextNode("CS", (Word("vertical"), 1.0)), axis, _unit2(crs), *_id(crs.code)),
    )


def axis2(crs: VerticalCRS) -> TextNode:
    """The third axis of a CRS with heights above the ellipsoid."""
    return TextNode(
        "AXIS", ("ellipsoidal height (h)", Word(_direction(crs)), TextNode("ORDER", (3.0,)), _unit2(crs))
    )


def _unit2(crs: VerticalCRS) -> TextNode:
    return TextNode("LENGTHUNIT", (crs.unit.name, crs.unit.factor, *_id(crs.unit.code)))


def json_axis(crs: VerticalCRS) -> Object:
    """The axis of `crs` as an object."""
    unit: str | Object = "metre"
    if crs.unit != METRE:
        unit = {"type": "LinearUnit", "name": crs.unit.name, "conversion_factor": crs.unit.factor}
    name = "ellipsoidal height" if crs.datum is None else "depth" if crs.down else "gravity-related height"
    return {"name": name, "direction": _direction(crs), "unit": unit}


def json_object(crs: VerticalCRS) -> Object:
    """The object of `crs`."""
    assert crs.datum is not None
    datum = {"type": "VerticalReferenceFrame", "name": crs.datum.name, **_json_id(crs.datum.code)}
    system = {"subtype": "vertical", "axis": [json_axis(crs)]}
    return {"type": "VerticalCRS", "name": crs.name, "datum": datum, "coordinate_system": system} | _json_id(
        crs.code
    )


def _json_id(code: int | None) -> Object:
    return {"id": {"authority": "EPSG", "code": code}} if code else {}


def read(node: TextNode, code: int | None, unit: Unit) -> VerticalCRS:
    """The vertical CRS of a VERT_CS, VERTCS or VERTCRS with `code` and `unit`. Raises InputError."""
    datum = node.first(*DATUMS)
    if datum is None:
        raise InputError(
            f"{node.keyword}[{node.name!r} ...] names no vertical datum",
            "what its heights start from is unknown",
            "complete the text",
        )
    parameters = {plain(p.name): p.number(1) for p in node.all("PARAMETER")}
    if parameters.get("verticalshift"):
        raise InputError(
            f"{node.keyword}[{node.name!r} ...] shifts its heights by {parameters['verticalshift']:g}",
            "a shift is a change of datum, which Zembrel does not take from here",
            "set Vertical_Shift to 0",
        )
    axis = node.first("AXIS")
    words = [item.name.lower() for item in axis.items if isinstance(item, Word)] if axis else []
    down = parameters.get("direction", 1.0) < 0 or "down" in words
    geodetic = datum.first("SPHEROID", "ELLIPSOID") is not None
    free = geodetic or (len(datum.items) > 1 and datum.items[1] == _ELLIPSOID)
    return recognised(node.name, None if free else VerticalDatum(datum.name), unit, down, code)


def read_axis(direction: str, unit: Unit) -> VerticalCRS:
    """Heights above the ellipsoid, of a third axis."""
    return recognised("", None, unit, direction == "down", None)


def recognised(
    name: str, datum: VerticalDatum | None, unit: Unit, down: bool, code: int | None
) -> VerticalCRS:
    """The CRS as defined; the registered one of code, name or datum if unit and sense are the same."""
    if datum is None:
        return replace(ELLIPSOIDAL, unit=unit, down=down)
    wanted = plain(name), plain(datum.name)
    for known in _candidates(code, *wanted):
        assert known.datum is not None
        alike = wanted[0] == plain(known.name) or wanted[1] == plain(known.datum.name)
        if alike and known.down == down and math.isclose(known.unit.factor, unit.factor, rel_tol=1e-9):
            return known
    return VerticalCRS(name, unit, datum=datum, down=down)


def _candidates(code: int | None, name: str, datum: str) -> Iterable[VerticalCRS]:
    codes = [code] if code else []
    codes += [c for c, own, _ in _registered() if own == name]
    codes += [c for c, _, own in _registered() if own == datum]
    for found in codes:
        crs = by_code(found) if rows("SELECT 1 FROM crs WHERE code = ?", found) else None
        if isinstance(crs, VerticalCRS):
            yield crs


@lru_cache(maxsize=1)
def _registered() -> tuple[tuple[int, str, str], ...]:
    """Code, and letters and digits of name and datum, of all vertical CRSs, current ones first."""
    found = rows(
        """SELECT c.code, c.name, coalesce(d.name, b.name) AS datum FROM crs c
        LEFT JOIN datum d ON d.code = c.datum LEFT JOIN crs u ON u.code = c.base
        LEFT JOIN datum b ON b.code = u.datum
        WHERE c.kind = 'vertical' ORDER BY c.deprecated, c.code"""
    )
    return tuple((r["code"], plain(r["name"]), plain(r["datum"] or "")) for r in found)
