"""The frame a result lands on: chosen once, from what is asked and what the inputs are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from zembrel.errors import InputError, UsageError, ZembrelError
from zembrel.facts import Fact, fact, remarks
from zembrel.geodesy.crs import CRS, UnresolvedCRS, label, same, vertical_of
from zembrel.geodesy.operation import CoordinateOperation
from zembrel.geodesy.registry import by_code, entry
from zembrel.grid.area import turned
from zembrel.grid.extent import begun, carried_bounds, faced, operation_of, seen_from
from zembrel.grid.frame import Frame, snapped
from zembrel.grid.framefile import crs_text
from zembrel.inputs.aids import check_used, equipped, with_heights
from zembrel.inputs.landing import area_on
from zembrel.inputs.layers import Layer, check_placed
from zembrel.inputs.methods import choose_method, resolution_remark
from zembrel.inputs.options import Where
from zembrel.inputs.sharedcell import SharedCell, part_of
from zembrel.inputs.within import Resolved, asked_crs, asked_frame, overlap_error, resolve
from zembrel.raster.method import Method
from zembrel.raster.model import Raster
from zembrel.raster.views.around import turns_of
from zembrel.raster.views.mosaic import mosaic
from zembrel.raster.views.outline import Blanked, Cover
from zembrel.raster.views.overlap import RasterPiece
from zembrel.raster.views.place import Reframed
from zembrel.raster.views.reproject import on_frame

Bounds = tuple[float, float, float, float]


@dataclass(frozen=True)
class Target:
    """The result's frame, the area it keeps, and the choices made for the user."""

    frame: Frame
    area: Resolved | None = None
    chose: tuple[Fact, ...] = ()
    asked: Where = field(default_factory=Where)

    def cover(self, touching: bool = False) -> Cover | None:
        return self.area.cover(self.frame, touching) if self.area else None


def decide(layers: Sequence[Layer], where: Where, shared: SharedCell | None = None) -> Target:
    """The frame for all `layers`. shared: with others, whose native resolution counts too.

    Raises UsageError for options that exclude each other, InputError if nothing lies in the area.
    """
    check_placed(layers)
    if where.named is not None:
        target = Target(where.named, area_on(where.named, where), (fact("onto_degree_cell"),))
    else:
        target = (
            _onto(where, layers)
            if where.onto
            else _around(layers, where, shared or SharedCell(layers, where))
        )
    if where.shift_grid or where.height_grid:
        ways = [operation_to(layer, target.frame) for layer in (shared.layers if shared else layers)]
        check_used(where, [way for way in ways if way is not None])
    meanings = {vertical_of(layer.raster.frame.crs) for layer in layers} - {None}
    mixed = len(meanings) > 1 and vertical_of(target.frame.crs) is None
    said = [fact("heights_unlike")] if mixed else []
    return replace(target, asked=where, chose=(*target.chose, *said, *remarks(area_remarks(target.frame))))


def by_longest(crs: CRS | None, bounds: Bounds, where: Where, registration: str = "cell") -> Frame:
    """The frame of so many square cells along the longer side of `bounds`. Raises UsageError."""
    if where.cell:
        raise UsageError("--longest excludes --cell", "each says how fine the result is", "leave one out")
    most = where.longest or 0
    if not 2 <= most <= 1_000_000:
        raise UsageError(f"--longest {most}", "a side has 2 to 1,000,000 cells", "write --longest 2000")
    west, south, east, north = bounds
    size = max(east - west, north - south) / (most - (registration == "node"))
    return snapped(crs, bounds, (size, size), origin=(west, north), registration=registration)


def _equipped(crs: CRS, layers: Sequence[Layer], where: Where) -> CRS:
    return equipped(crs, where, [vertical_of(layer.raster.frame.crs) for layer in layers])


def operation_to(layer: Layer, frame: Frame) -> CoordinateOperation | None:
    """From the CRS of `layer` to that of `frame`; None where one of them has none that can be computed."""
    own = layer.raster.frame.crs
    if (
        own is None
        or frame.crs is None
        or isinstance(own, UnresolvedCRS)
        or isinstance(frame.crs, UnresolvedCRS)
    ):
        return None
    return operation_of(layer.raster.frame, frame.crs)


def _around(layers: Sequence[Layer], where: Where, shared: SharedCell) -> Target:
    """The frame that holds all layers, or what of them lies in the area."""
    crs, chose = _choose_crs(layers, where)
    crs = crs and _equipped(crs, layers, where)
    parts = [part_of(layer, crs, where) for layer in layers]
    cell = shared.in_units_of(crs)
    extents = [_bounds(part, crs) for part in parts]
    middle = (extents[0][0] + extents[0][2]) / 2
    together = [faced(extent, crs, middle) for extent in extents]
    bounds = _joined(together)
    if together != extents:  # on several turns: where all of it begins does not depend on the first
        bounds = begun(bounds, crs)
    if any(part != layer.raster.frame for part, layer in zip(parts, layers, strict=True)):
        chose = (*chose, fact("cut_to_use", crs=label(crs)))
    area = None
    if where.within:
        _refuse_bare(where, layers)
        area = resolve(where, crs)
        met = _meet(_joined([seen_from(extent, crs, area.bounds) for extent in extents]), area.bounds)
        if met is None:
            raise overlap_error(_nothing(layers), bounds, crs, where.within, _meant(where, crs, bounds))
        bounds = met
    registration = layers[0].raster.frame.registration
    if where.longest is not None:
        return Target(by_longest(crs, bounds, where, registration), area, chose)
    reference = _reference(layers, crs, cell)
    if reference is not None:
        return Target(replace(reference.crop(reference.pane_of(*bounds)), crs=crs), area, chose)
    return Target(snapped(crs, bounds, cell, registration=registration), area, chose)


def _meant(where: Where, crs: CRS | None, bounds: Bounds) -> str | None:
    """The area phrase with x and y exchanged, if that is one that meets `bounds`."""
    phrase = turned(str(where.within))
    if phrase is None:
        return None
    try:
        other = resolve(replace(where, within=phrase), crs)
    except ZembrelError:
        return None
    return phrase if _meet(seen_from(bounds, crs, other.bounds), other.bounds) else None


def _onto(where: Where, layers: Sequence[Layer]) -> Target:
    if where.crs or where.cell or where.longest:
        raise UsageError(
            "--onto excludes --crs, --cell and --longest",
            "the frame says both already",
            "leave out --onto, or the others",
        )
    frame = asked_frame(where)
    assert frame is not None
    frame = replace(frame, crs=frame.crs and _equipped(frame.crs, layers, where))
    chose = (fact("onto", onto=where.onto),)
    if not where.within:
        return Target(frame, None, chose)
    area = resolve(where, frame.crs)
    met = _meet(frame.bounds, area.bounds)
    if met is None:
        raise overlap_error(f"{where.onto} has nothing", frame.bounds, frame.crs, where.within)
    return Target(frame.crop(frame.pane_of(*met)), area, chose)


def area_remarks(frame: Frame) -> list[str]:
    """What the registry has against this CRS here."""
    known = entry(frame.crs.code) if frame.crs is not None and frame.crs.code else None
    if known is None or isinstance(frame.crs, UnresolvedCRS):
        return []
    said = []
    if known.deprecated:
        other = f": EPSG:{known.replaced_by} replaces it" if known.replaced_by else ""
        said.append(f"EPSG:{known.code} is withdrawn{other}")
    west, south, east, north = known.bounds
    east += 360 if west > east else 0
    here = carried_bounds(frame, by_code(4326))
    turns = [(west + turn, south, east + turn, north) for turn in (-360, 0, 360)]
    if np.isfinite(known.bounds).all() and not any(_meet(area, here) for area in turns):
        said.append(f"outside the area of use of EPSG:{known.code} ({known.area})")
    return said


def _choose_crs(layers: Sequence[Layer], where: Where) -> tuple[CRS | None, tuple[Fact, ...]]:
    if where.crs:
        homeless = next((layer for layer in layers if layer.raster.frame.crs is None), None)
        if homeless is not None:
            raise InputError(
                f"{homeless.path} has no coordinate reference system",
                f"it cannot be brought to {where.crs}",
                "add --from-crs CRS with what it is in",
            )
        return asked_crs(where), ()
    weights: list[tuple[CRS | None, int]] = []
    for layer in layers:
        crs = layer.raster.frame.crs
        known = next((n for n, (other, _) in enumerate(weights) if same(crs, other)), None)
        if known is None:
            weights.append((crs, layer.raster.frame.size))
        else:
            weights[known] = weights[known][0], weights[known][1] + layer.raster.frame.size
    best = max(weights, key=lambda entry: entry[1])[0]
    if len(weights) == 1 or best is None:
        return best, ()
    return best, (fact("crs_of_most", crs=crs_text(best)),)


def _bounds(frame: Frame, crs: CRS | None) -> Bounds:
    return frame.bounds if crs is None else carried_bounds(frame, crs)


def _reference(layers: Sequence[Layer], crs: CRS | None, cell: tuple[float, float]) -> Frame | None:
    """The frame whose lattice the result shares: the first input that already is in CRS and cell size."""
    for layer in layers:
        frame = layer.raster.frame
        alike = all(abs(one / other - 1) < 1e-9 for one, other in zip(frame.cell, cell, strict=True))
        if alike and frame.north_up and same(frame.crs, crs):
            return frame
    return None


def _refuse_bare(where: Where, layers: Sequence[Layer]) -> None:
    """Raise UsageError for bare numbers where it is open which CRS they are in."""
    first = layers[0].raster.frame.crs
    bare = where.within and "@" not in where.within and where.within[:1] in "+-.0123456789"
    if bare and not where.crs and any(not same(first, layer.raster.frame.crs) for layer in layers):
        raise UsageError(
            f"area {where.within} has no CRS", "the inputs are in several", "append @EPSG:code, or give --crs"
        )


def _joined(bounds: Sequence[Bounds]) -> Bounds:
    wests, souths, easts, norths = zip(*bounds, strict=True)
    return min(wests), min(souths), max(easts), max(norths)


def _meet(one: Bounds, other: Bounds) -> Bounds | None:
    west, south = max(one[0], other[0]), max(one[1], other[1])
    east, north = min(one[2], other[2]), min(one[3], other[3])
    return (west, south, east, north) if west < east and south < north else None


def _nothing(layers: Sequence[Layer]) -> str:
    if len(layers) == 1:
        return f"{layers[0].path} has nothing"
    return f"none of the {len(layers)} inputs has anything"


def brought(layer: Layer, target: Target, method: str) -> tuple[Raster, list[Fact]]:
    """`layer` on the target's frame, and what was chosen for that."""
    sources = turns_of(layer.raster, target.frame)
    layer = replace(layer, raster=sources[0])
    if len(sources) == 1 and layer.raster.frame.offset_to(target.frame) is not None:
        name, chose = Method("nearest"), [fact("native_cells")]
    else:
        name, why = choose_method(method, layer.raster, target.frame, target.asked.average_codes)
        chose = [fact("method", method=str(name), why=why), *resolution_remark(layer.raster, target.frame)]
    way = operation_to(layer, target.frame)
    if way is not None:
        chose += remarks(way.checked(target.asked.strict_crs).remarks)
    views = [on_frame(source, target.frame, name) for source in sources]
    view = views[0]
    if len(views) > 1:
        pieces = tuple(RasterPiece(one, target.frame.pane) for one in views)
        view = mosaic(pieces, target.frame, view.bands, "first", 0.0)
    if view.frame.crs != target.frame.crs:  # native cells, whose heights mean something else now
        view = Reframed(view, target.frame)
    view, more = with_heights(view, way, target.asked)
    return view, [*chose, *more]


def masked(view: Raster, cover: Cover | None) -> Raster:
    return view if cover is None else Blanked(view, cover)
