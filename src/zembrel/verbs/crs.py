"""crs: find and show CRSs, and the operations between them."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.geodesy.crs import (
    CRS,
    GeographicCRS,
    ProjectedCRS,
    UnresolvedCRS,
    VerticalCRS,
    label,
    vertical_of,
)
from zembrel.geodesy.geodesic import destination
from zembrel.geodesy.operation import operation
from zembrel.geodesy.registry import CRSEntry, by_code, compound_code, covering, entry, find
from zembrel.geodesy.shifts import Shift
from zembrel.geodesy.text import FORMS, write_crs
from zembrel.geodesy.text.names import method_name, parameter_name
from zembrel.geodesy.text.wkt_writer import ANGLES, LENGTHS
from zembrel.geodesy.transformation import UNSTATED
from zembrel.geodesy.ways import Way, by_accuracy, ways
from zembrel.grid.area import PathArea, parse_area
from zembrel.grid.extent import Bounds
from zembrel.inputs.options import PlacesFile, Where
from zembrel.inputs.within import parse_crs_phrase, resolve
from zembrel.optiontext import OptionText
from zembrel.results.phrases import show_table
from zembrel.results.receipt import Receipt

ACTIONS = ("find", "show", "fit", "operations")
SHOWN = 20
REACH = "1km"  # around a named place
TRUE_ENOUGH = 0.001  # share by which the scale of a fitting map may be off
ZONED = 9824  # coordinates with the zone before them serve no raster


def crs(
    action: str = "",
    words: tuple[str, ...] = (),
    *,
    form: Annotated[
        str | None, OptionText("Show the CRS as wkt2, wkt1, prj or json.", "FORM", flag="--as")
    ] = None,
    all_found: Annotated[bool, OptionText("List all matches.", flag="--all")] = False,
    places: PlacesFile = None,
) -> Receipt:
    """`find TEXT|AREA`, `show CRS`, `fit LAYER|AREA` or `operations A B`.

    form: one of FORMS to show a CRS in; places: the file of named places. Raises UsageError for another
    action.
    """
    if not action:
        raise UsageError(
            "crs does not say what to do", f"it can {', '.join(ACTIONS)}", "write crs find UTM 26N"
        )
    if action not in ACTIONS:
        raise UsageError(
            f"crs has no action {action!r}", "it finds, shows, fits or lists", nearest_name(action, ACTIONS)
        )
    due = 2 if action == "operations" else 1
    if len(words) < due or (len(words) > due and action != "find"):
        raise UsageError(
            f"crs {action} with {len(words)} word(s)",
            "what to look at is unclear",
            {
                "find": "write zembrel crs find TEXT",
                "show": "write zembrel crs show EPSG:32626",
                "fit": "write zembrel crs fit LAYER",
                "operations": "write zembrel crs operations EPSG:27700 EPSG:4326",
            }[action],
        )
    if action == "find":
        return _find(" ".join(words), all_found, places)
    if action == "show":
        return _show(parse_crs_phrase(words[0]), form)
    if action == "fit":
        return _fit(words[0], places)
    return _operations(parse_crs_phrase(words[0]), parse_crs_phrase(words[1]), all_found)


def _find(text: str, all_found: bool, places: str | None) -> Receipt:
    most = 100_000 if all_found else SHOWN
    by_area = Path(text).exists() or _is_area(text)
    found = covering(*_middle(_degrees(text, places)), most) if by_area else find(text, most)
    if not found:
        raise InputError(
            f"no projected CRS is made for {text}" if by_area else f"no CRS has {text!r} in its name or area",
            "all current ones were looked at",
            "CRSs of the whole world are found by name" if by_area else "try fewer or other words",
        )
    table = [("code", "name", "area of use")] + [(f"EPSG:{e.code}", e.name, e.area) for e in found]
    note = f"the first {SHOWN}; --all shows the others\n" if len(found) == most else ""
    facts = {"found": [_entry_facts(e) for e in found]}
    return Receipt("crs", own=facts, data=show_table(table) + note)


def _is_area(text: str) -> bool:
    return not isinstance(parse_area(text), PathArea)


def _middle(bounds: Bounds) -> tuple[float, float]:
    west, south, east, north = bounds
    return west + (east - west) / 2, (south + north) / 2


def _degrees(text: str, places: str | None) -> Bounds:
    """West, south, east and north of an area phrase or a raster, degrees of WGS 84."""
    return resolve(Where(within=text, places=places, reach=REACH), by_code(4326)).bounds


def _show(found: CRS, form: str | None) -> Receipt:
    if form is not None:
        if form not in FORMS:
            raise UsageError(
                f"there is no form {form!r}", "a CRS is shown in one of four", nearest_name(form, FORMS)
            )
        return Receipt("crs", own={"text": write_crs(found, form)}, data=write_crs(found, form) + "\n")
    rows = [("name", label(found))]
    vertical = vertical_of(found)
    both = compound_code(found.code, vertical) if vertical is not None else None
    registered = entry(both or found.code or 0)
    if registered is not None:
        if both:
            rows.append(("together", f"EPSG:{both} {registered.name}"))
        rows += [("kind", registered.kind), ("area", registered.area), ("bounds", _bounds(registered))]
        if registered.deprecated:
            other = f"EPSG:{registered.replaced_by}" if registered.replaced_by else "nothing"
            rows.append(("withdrawn", f"replaced by {other}"))
    if isinstance(found, GeographicCRS | ProjectedCRS):
        rows += _definition(found)
    if vertical is not None:
        rows += _vertical(vertical)
    facts = {"name": found.name, "code": found.code, "facts": dict(rows)}
    return Receipt("crs", own=facts, data=show_table(rows))


def _bounds(found: CRSEntry) -> str:
    west, south, east, north = found.bounds
    return f"W {west:g}  S {south:g}  E {east:g}  N {north:g}"


def _definition(found: GeographicCRS | ProjectedCRS) -> list[tuple[str, str]]:
    shape = found.datum.ellipsoid
    rows = [
        ("datum", found.datum.name),
        ("ellipsoid", f"{shape.name}   {shape.semi_major:.10g} m   1/{shape.inverse_flattening:.12g}"),
        ("meridian", f"{found.datum.prime_meridian:.10g} degrees east of Greenwich"),
        ("unit", f"{found.unit.name}" + ("" if found.unit.factor == 1 else f"   {found.unit.factor:.15g}")),
        ("axes", ", ".join(found.axes) + " as registered; here x points right and comes first"),
    ]
    if isinstance(found, ProjectedCRS):
        rows += [("base", label(found.base)), ("method", _method(found.conversion.method))]
        rows += [(f"  {parameter_name(c)}", _value(c, v, found)) for c, v in found.conversion.parameters]
    return rows


def _vertical(found: VerticalCRS) -> list[tuple[str, str]]:
    surface = found.datum.name if found.datum else "the ellipsoid"
    sense = "down" if found.down else "up"
    return [
        ("heights", label(found)),
        ("  above", surface),
        ("  unit", f"{found.unit.name}, counted {sense}"),
    ]


def _method(code: int) -> str:
    return f"EPSG:{code} {method_name(code)}"


def _value(code: int, value: float, crs: ProjectedCRS) -> str:
    if code in ANGLES:
        return f"{np.degrees(value):.12g} degrees"
    if code in LENGTHS:
        return f"{value / crs.unit.factor:.12g} ({crs.unit.name})"
    return f"{value:.12g}"


def _fit(text: str, places: str | None) -> Receipt:
    area = _degrees(text, places)
    lon, lat = _middle(area)
    near = [e for e in covering(lon, lat, 60) if _method_of(e.code) != ZONED]
    usable = [(e, _distortion(e.code, lon, lat)) for e in near]
    usable = [pair for pair in usable if np.isfinite(pair[1])]
    usable.sort(key=lambda pair: _fitness(pair[0], pair[1], area))
    if not usable:
        raise InputError(
            f"no projected CRS has {text} in its area of use",
            "it may be too large for one",
            "choose with crs find",
        )
    rows = [("code", "name", "scale off by", "area of use")]
    rows += [(f"EPSG:{e.code}", e.name, f"{100 * off:.3f} %", e.area) for e, off in usable[:SHOWN]]
    facts = {"found": [_entry_facts(e) | {"distortion": off} for e, off in usable[:SHOWN]]}
    return Receipt("crs", own=facts, data=show_table(rows))


def _fitness(found: CRSEntry, distortion: float, area: Bounds) -> tuple[float, ...]:
    """Least for what fits best: true to scale, holding all of the area, made for a small one, current."""
    extent = round(2 * math.log(max(_size(found), 1e-3)))
    true, whole = distortion <= TRUE_ENOUGH, _holds(found.bounds, area)
    return float(not true), float(not whole), extent, float(not found.name.startswith("WGS 84"))


def _method_of(code: int) -> int | None:
    found = by_code(code)
    return found.conversion.method if isinstance(found, ProjectedCRS) else None


def _holds(outer: Bounds, inner: Bounds) -> bool:
    west, _, east, _ = outer
    east += 360 if west > east else 0
    shift = 360 * round(((west + east) - (inner[0] + inner[2])) / 720)
    return (
        west <= inner[0] + shift
        and inner[2] + shift <= east
        and outer[1] <= inner[1]
        and inner[3] <= outer[3]
    )


def _size(found: CRSEntry) -> float:
    west, south, east, north = found.bounds
    return ((east - west) % 360.001) * (north - south)


def _distortion(code: int, lon: float, lat: float) -> float:
    """By how much a kilometre on the ground is off on the map, the worse of two directions."""
    found = by_code(code)
    if not isinstance(found, ProjectedCRS):
        return float("nan")
    x, y = np.radians([lon]), np.radians([lat])
    worst = 0.0
    for azimuth in (0.0, np.pi / 2):
        end = destination(found.datum.ellipsoid, x, y, np.array([azimuth]), np.array([1000.0]))
        (x0, y0), (x1, y1) = found.from_geographic(x, y), found.from_geographic(*end)
        metres = float(np.hypot(x1 - x0, y1 - y0)[0]) * found.unit.factor
        worst = max(worst, abs(metres / 1000 - 1)) if np.isfinite(metres) else float("nan")
    return worst


def _operations(source: CRS, target: CRS, all_found: bool) -> Receipt:
    if isinstance(source, UnresolvedCRS) or isinstance(target, UnresolvedCRS):
        raise (source if isinstance(source, UnresolvedCRS) else target).refuse()  # type: ignore[union-attr]
    chosen = operation(source, target)
    codes = source.datum.code, target.datum.code
    listed = by_accuracy(ways(*codes)) if None not in codes and chosen.shift is not None else []  # type: ignore[arg-type]
    rows = [("operation", "accuracy", "W,S,E,N", "")]
    for way in listed[: None if all_found else SHOWN]:
        rows.append(_way_row(way, chosen.shift))
    text = f"{label(source)} -> {label(target)}: {chosen.describe()}\n"
    facts = {
        "chosen": chosen.describe(),
        "ways": [
            {"codes": [step.code for step in way.registered], "accuracy": way.accuracy} for way in listed
        ],
    }
    return Receipt("crs", own=facts, data=text + (show_table(rows) if listed else ""))


def _way_row(way: Way, chosen: Shift | None) -> tuple[str, str, str, str]:
    west, south, east, north = way.steps[0].area
    mark = (
        "chosen"
        if chosen is not None and way == chosen.way
        else "needs a grid file"
        if way.needs_grid
        else ""
        if way.computable
        else "method not known"
    )
    accuracy = f"{way.accuracy:g} m" if way.accuracy < UNSTATED else "not stated"
    return way.label, accuracy, f"{west:g},{south:g},{east:g},{north:g}", mark


def _entry_facts(found: CRSEntry) -> dict[str, Any]:
    return found._asdict()
