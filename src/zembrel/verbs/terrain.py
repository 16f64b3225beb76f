"""terrain: slope, aspect, light and the other faces of a surface of heights."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

import numpy as np

from zembrel.algebra.suns import ray_to, suns_of
from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import GeographicCRS, ProjectedCRS, metres_per_unit, vertical_of
from zembrel.grid.extent import row_scales
from zembrel.grid.frame import Array, Frame
from zembrel.grid.north import TrueNorth
from zembrel.inputs.aids import metres
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer, one_band
from zembrel.inputs.lengths import in_units_of
from zembrel.inputs.options import Inputs, Output
from zembrel.measure import LENGTHS
from zembrel.optiontext import OptionText
from zembrel.passes.survey import seen
from zembrel.raster.codes import void_taken_for_ground
from zembrel.raster.model import Raster, is_photo
from zembrel.raster.survey import Statistics
from zembrel.raster.terrain import (
    BENDS,
    FARTHEST,
    UNEVEN,
    WAYS,
    Aspect,
    Curvature,
    Hillshade,
    Measure,
    Position,
    Slope,
    Unevenness,
)
from zembrel.raster.views.terrainview import Terrain
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.each import one_to_one, opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import Written, write

NAMES = ("slope", "aspect", "hillshade", "roughness", "ruggedness", "curvature", "position")
_WIDEST = 1_024  # cells of a reach


@dataclass(frozen=True)
class Surface:
    """What to make of heights: names, and how each is meant.

    way: of slopes, in WAYS; sun: `AZIMUTH,ALTITUDE` each; sun_at: a time; hours: `6-20`, of that day; flat:
    the aspect of level cells; reach: of `position`.
    """

    of: Annotated[
        tuple[str, ...],
        OptionText(
            "slope, aspect, hillshade, roughness, ruggedness, position or curvature (or "
            "curvature:profile, :plan, :mean). Repeatable, a band each.",
            "NAME",
        ),
    ] = ()
    way: Annotated[str, OptionText("Unit of slopes: degrees, percent or ratio.", "UNIT", flag="--in")] = (
        "degrees"
    )
    sun: Annotated[
        tuple[str, ...],
        OptionText(
            "Azimuth and altitude of the light. Repeatable; several lights blend. Default: 315,45.", "AZ,ALT"
        ),
    ] = ()
    sun_at: Annotated[
        str | None, OptionText("Use the position of the sun at this time, e.g. 2027-06-21T15:00Z.", "TIME")
    ] = None
    hours: Annotated[
        str | None, OptionText("Write a band for each hour on the day of --sun-at, e.g. 6-20.", "A-B")
    ] = None
    cast: Annotated[bool, OptionText("Include cast shadows.")] = False
    flat: Annotated[float | None, OptionText("Aspect of flat cells. Default: nodata.", "VALUE")] = None
    true_north: Annotated[
        bool, OptionText("Measure aspect and --sun from true north instead of grid north.")
    ] = False
    reach: Annotated[str | None, OptionText("Radius of the mean, for position.", "CELLS|LENGTH")] = None
    z_unit: Annotated[str | None, OptionText("Unit of heights: m, ft ...", "UNIT")] = None


def terrain(inputs: Inputs, output: Output, surface: Surface) -> Receipt:
    """Each input's heights as slope, aspect, light and others, a band each, made in one pass.

    Raises UsageError for a name that is none or options that say nothing here, InputError for cells that are
    no heights.
    """
    _check(surface)
    layers, unopened = opened(take(inputs, output), output)

    def make(layer: Layer, final: Path) -> tuple[Written, list[Fact]]:
        heights = _heights(layer)
        view, chose = _made(heights, surface, output)
        void = void_taken_for_ground(heights)
        chose += [fact("void_as_ground", value=void)] if void is not None else []
        return write(view, final, output), chose

    return one_to_one("terrain", layers, output, make, unopened)


def _check(surface: Surface) -> None:
    if not surface.of:
        raise UsageError(
            "there is nothing to make", f"terrain makes {', '.join(NAMES)}", "add --of slope, or several"
        )
    for name in surface.of:
        first, _, part = name.partition(":")
        if first not in NAMES or (part and (first != "curvature" or part not in BENDS)):
            known = (*NAMES, *(f"curvature:{bend}" for bend in BENDS))
            raise UsageError(f"--of {name}", f"there is no {name!r}", nearest_name(name, known))
    if surface.way not in WAYS:
        raise UsageError(f"--in {surface.way}", "slopes have three units", nearest_name(surface.way, WAYS))
    light = "hillshade" in surface.of
    for option, given, of in (
        ("--sun", surface.sun, light), ("--sun-at", surface.sun_at, light), ("--cast", surface.cast, light),
        ("--reach", surface.reach, "position" in surface.of), ("--hours", surface.hours, light),
        ("--flat", surface.flat is not None, "aspect" in surface.of),
        ("--true-north", surface.true_north, light or "aspect" in surface.of),
        ("--in", surface.way != "degrees", "slope" in surface.of),
    ):  # fmt: skip
        if given and not of:
            raise UsageError(
                f"{option} says nothing here", "nothing that is made depends on it", "leave it out"
            )
    if surface.sun and surface.sun_at:
        raise UsageError("--sun excludes --sun-at", "each says where the sun is", "leave one out")
    if surface.hours and not surface.sun_at:
        raise UsageError("--hours has no day", "the sun's place depends on it", "add --sun-at 2027-06-21")
    if "position" in surface.of and not surface.reach:
        raise UsageError(
            "position has no reach", "it is held against the mean within one", "add --reach 500m"
        )


def _heights(layer: Layer) -> Raster:
    """The band of heights. Raises InputError for colours and classes."""
    raster = layer.raster
    if is_photo(raster.bands) or raster.bands[0].categorical:
        what = "colours" if is_photo(raster.bands) else "classes"
        raise InputError(f"{layer.path} holds {what}", "they are no heights", "name an elevation layer")
    return unscaled(one_band(layer, "one of them holds heights"))


def _made(heights: Raster, surface: Surface, output: Output) -> tuple[Raster, list[Fact]]:
    frame = heights.frame
    unit, metre, said = _unit(heights, surface)
    scales, chose = row_scales(frame), [said]
    chose += _said_of_scale(frame, scales)
    measures: list[Measure] = []
    for name in dict.fromkeys(surface.of):
        first, _, part = name.partition(":")
        if first == "slope":
            measures.append(Slope(surface.way))
        elif first == "aspect":
            flat = math.nan if surface.flat is None else surface.flat
            measures.append(Aspect(flat, TrueNorth(frame) if surface.true_north else None))
            chose.append(fact("aspect_from", north="true" if surface.true_north else "grid"))
        elif first == "curvature":
            measures += [Curvature(bend, "m") for bend in ([part] if part else BENDS)]
        elif first == "position":
            measures.append(Position(_reach(str(surface.reach), frame, scales), unit))
        elif first == "hillshade":
            lights, more = _lights(heights, surface, output, scales / metre)
            measures += lights
            chose += more
        elif first in UNEVEN:
            measures.append(Unevenness(first, unit))
        else:
            raise LookupError(first)
    return Terrain(heights, tuple(measures), scales, metre), chose


def _unit(heights: Raster, surface: Surface) -> tuple[str, float, Fact]:
    """The sign of the heights' unit, how many metres it has, and a word on where that comes from."""
    band, vertical = heights.bands[0], vertical_of(heights.frame.crs)
    if surface.z_unit:
        return surface.z_unit, metres(surface.z_unit), fact("heights_said", unit=surface.z_unit)
    if band.unit in LENGTHS:
        return band.unit, float(LENGTHS[band.unit]), fact("heights_in", unit=band.unit)
    if band.unit:
        raise InputError(
            f"heights in {band.unit!r}", "that is no length", "add --z-unit m, if that is what they are in"
        )
    if vertical is not None:
        size = vertical.unit.factor
        sign = next(
            (sign for sign, own in LENGTHS.items() if math.isclose(float(own), size)), vertical.unit.name
        )
        return sign, size, fact("heights_of_crs", unit=sign)
    return "m", 1.0, fact("heights_taken")


def _said_of_scale(frame: Frame, scales: Array) -> list[Fact]:
    if isinstance(frame.crs, GeographicCRS):
        return [fact("cells_on_ellipsoid")]
    unit = metres_per_unit(frame.crs, 0.0)[0]
    stretched = float(np.median(unit / scales))
    if isinstance(frame.crs, ProjectedCRS) and abs(stretched - 1) > 1e-9:
        return [fact("cells_stretched", times=stretched)]
    return []


def _reach(text: str, frame: Frame, scales: Array) -> tuple[float, float]:
    """A reach in cells along x and y, in the middle of the frame."""
    if text.isdigit():
        reach = (float(text), float(text))
    elif isinstance(frame.crs, GeographicCRS) and text.lstrip("0123456789.") in LENGTHS:
        across, along = (scales[frame.rows // 2] * frame.cell).tolist()
        length = in_units_of(text, None)
        reach = length / across, length / along
    else:
        length = in_units_of(text, frame.crs)
        reach = length / frame.cell[0], length / frame.cell[1]
    if not 1 <= min(reach) <= max(reach) <= _WIDEST:
        raise UsageError(
            f"--reach {text} is {min(reach):.3g} cells", f"a reach has 1 to {_WIDEST:,}", "give another"
        )
    return reach


def _lights(
    heights: Raster, surface: Surface, output: Output, scales: Array
) -> tuple[list[Measure], list[Fact]]:
    """Light by the sun or suns that are asked for. scales: of the ground, in units of the heights."""
    frame = heights.frame
    turn = TrueNorth(frame).middle()
    suns, chose = suns_of(surface.sun, surface.sun_at, surface.hours, frame)
    if surface.true_north or surface.sun_at:
        suns = {
            name: tuple(s._replace(azimuth=(s.azimuth + turn) % 360) for s in held)
            for name, held in suns.items()
        }
        chose.append(fact("north_turned", turn=turn))
    made = [Hillshade(held, name) for name, held in suns.items()]
    if not surface.cast:
        return list(made), chose
    known = seen(heights, Statistics(), output.limits).tallies[0]
    if not known.cells or output.dry_run:
        return list(made), chose
    rays = {sun: ray_to(sun, frame, scales, known.high - known.low) for held in suns.values() for sun in held}
    if any(ray.steps >= FARTHEST for ray in rays.values()):
        chose.append(fact("shadows_followed", cells=FARTHEST))
    return [replace(one, rays=tuple(rays[sun] for sun in one.suns)) for one in made], [
        *chose,
        fact("shadows_cast"),
    ]
