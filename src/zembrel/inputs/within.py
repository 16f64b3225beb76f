"""Area phrases resolved: bounds, and the outline where it is more than a rectangle."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from zembrel import features
from zembrel.errors import EmptyInputError, InputError, UsageError, nearest_name
from zembrel.expression.formula import Condition, parse_condition
from zembrel.facts import Fact, fact
from zembrel.features.files import named
from zembrel.formats import open_raster
from zembrel.geodesy.crs import CRS, GeographicCRS, label, same
from zembrel.geodesy.registry import by_code, parse_crs
from zembrel.geodesy.text import read_crs
from zembrel.grid.area import Area, AroundArea, BoxArea, PathArea, PlaceArea, check_bounds, parse_area
from zembrel.grid.extent import Bounds, box_bounds
from zembrel.grid.frame import Frame
from zembrel.grid.framefile import ENDING as FRAME_ENDING
from zembrel.grid.framefile import read_frame
from zembrel.inputs.options import Inputs, Where
from zembrel.measure import parse_length
from zembrel.points.files import holds_points, open_points
from zembrel.raster.views.outline import Cover
from zembrel.reading import readings
from zembrel.sources.gazetteer import find_place
from zembrel.sources.opening import find_source, gazetteers
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import ENDING as SOURCE_ENDING

if TYPE_CHECKING:
    from zembrel.features.table import FeatureTable

T = TypeVar("T")
_SHOWN = 3  # inputs that a word about many names


@dataclass(frozen=True)
class Resolved:
    """An area in one CRS: west, south, east, north, and its outline (a polygon) if not a rectangle."""

    bounds: Bounds
    polygon: object | None = None

    def cover(self, frame: Frame, touching: bool = False) -> Cover | None:
        """Which cells of `frame`, of the same CRS, lie inside the outline."""
        if self.polygon is None:
            return None

        return features.cover.PolygonCover(frame, self.polygon, touching)

    @property
    def outlined(self) -> Resolved:
        """The same with its outline even if that is a rectangle: for frames that are not cut to it."""
        import shapely

        return self if self.polygon is not None else Resolved(self.bounds, shapely.box(*self.bounds))


def area_crs(phrase: str) -> CRS | None:
    """The CRS that an area phrase is given in, if it says one: a degree cell does."""
    area = parse_area(phrase)
    return None if isinstance(area, PathArea | PlaceArea) else area.crs


def once(options: Where | Inputs, phrase: Any, parse: Callable[[], T]) -> T:
    """What a phrase of `options` means; it is parsed, and a file that it names is read, once in a run."""
    if phrase not in options.known:
        options.known[phrase] = parse()
    meant: T = options.known[phrase]
    return meant


def asked_crs(where: Where) -> CRS | None:
    """The CRS of `where.crs`, if one is asked for. Raises InputError."""
    text = where.crs
    return once(where, ("crs", text), lambda: parse_crs_phrase(text)) if text else None


def said_crs(inputs: Inputs) -> CRS | None:
    """The CRS of `inputs.from_crs`, if one is said. Raises InputError."""
    text = inputs.from_crs
    return once(inputs, ("from_crs", text), lambda: parse_crs_phrase(text)) if text else None


def condition_of(inputs: Inputs) -> Condition | None:
    """The condition of `inputs.condition`, if there is one. Raises UsageError."""
    text = inputs.condition
    return once(inputs, ("where", text), lambda: parse_condition(text)) if text else None


def asked_frame(where: Where) -> Frame | None:
    """The frame of `where.onto`, if one is asked for. Raises InputError."""
    text = where.onto
    return once(where, ("onto", text), lambda: load_frame(Path(text))) if text else None


def no_new_crs() -> UsageError:
    """What is said when a verb that changes the CRS is not told which."""
    return UsageError("there is no new CRS", "reproject needs one", "add --crs EPSG:code, or --onto FRAME")


def resolve(where: Where, crs: CRS | None) -> Resolved:
    """The area of `where.within` in `crs`. Raises UsageError or InputError, with the hint."""
    phrase = "within", where.within, where.within_where, where.reach, where.places
    area = once(where, phrase, lambda: _read_area(where))
    return once(where, (*phrase, crs), lambda: _resolved(area, crs))


def _read_area(where: Where) -> Area | FeatureTable | Frame:
    """What is meant by `where.within`; of a file the features or the frame in it."""
    assert where.within is not None
    area = parse_area(where.within)
    if where.within_where and not (isinstance(area, PathArea) and _holds_features(area.path)):
        raise UsageError(
            "--within-where picks features", f"{where.within} is no features file", "leave one of the two out"
        )
    if isinstance(area, PlaceArea):
        return _place(area, where)
    return _from_path(area.path, where.within_where) if isinstance(area, PathArea) else area


def _resolved(area: Area | features.table.FeatureTable | Frame, crs: CRS | None) -> Resolved:

    if isinstance(area, Frame):
        return _extent_of(area, crs)
    if isinstance(area, features.table.FeatureTable):
        polygon = features.antimeridian.join_across_edge(
            (area.to(crs) if crs is not None else area).polygon(), crs
        )
        return Resolved(tuple(polygon.bounds), polygon)
    return _from_shape(area, crs)


def _from_shape(area: Area, crs: CRS | None) -> Resolved:
    assert isinstance(area, BoxArea | AroundArea)
    own = area.crs or crs
    if isinstance(area, BoxArea):
        check_bounds(area.bounds, own)
        if own is None or crs is None or same(own, crs):
            west, south, east, north = area.bounds
            if isinstance(own, GeographicCRS) and west > east:
                east += 360 / own.unit.factor
            return Resolved((west, south, east, north))
        return _carried_box(area.bounds, own, crs)
    if own is None or crs is None:
        raise UsageError(
            "a reach around a point needs a CRS",
            "the inputs have none",
            "add --from-crs, or give W,S,E,N in cells",
        )
    return _carried_polygon([area.ring(crs)], crs, crs, rectangle=area.shape == "square")


def _carried_box(bounds: Bounds, own: CRS, crs: CRS) -> Resolved:
    west, south, east, north = bounds
    if west > east:  # across the antimeridian: the rectangle alone
        return Resolved(box_bounds(bounds, own, crs))
    ring = [(west, south), (east, south), (east, north), (west, north), (west, south)]
    return _carried_polygon([ring], own, crs, rectangle=False)


def _carried_polygon(
    rings: list[list[tuple[float, float]]], own: CRS, crs: CRS, *, rectangle: bool
) -> Resolved:
    import shapely

    table = features.table.FeatureTable.of([shapely.Polygon(rings[0])], [{}], own)
    polygon = features.antimeridian.join_across_edge(table.to(crs).polygon(), crs)
    return Resolved(tuple(polygon.bounds), None if rectangle else polygon)


def _from_path(text: str, condition: str | None) -> FeatureTable | Frame:
    path, _ = named.split_layer(text)
    if not path.exists():
        raise InputError(
            f"area {text!r} is no area phrase and no file",
            "it is neither W,S,E,N nor a known prefix, and no file of that name is here",
            "write W,S,E,N, square:X,Y,REACH, circle:X,Y,REACH, degree:N46W024, or a path",
        )
    if _holds_features(text):
        table = named.read_named(text)
        return table.where(condition) if condition else table
    return load_frame(path)


def _holds_features(text: str) -> bool:
    """Whether a file, or a layer in it, holds features."""
    return features.files.holds_features(named.split_layer(text)[0])


def _extent_of(frame: Frame, crs: CRS | None) -> Resolved:
    if crs is None or frame.crs is None or (same(frame.crs, crs) and frame.north_up):
        return Resolved(frame.bounds)
    cols = np.array([0, frame.columns, frame.columns, 0, 0], float)
    rows = np.array([0, 0, frame.rows, frame.rows, 0], float)
    x, y = frame.corners.at(cols, rows)
    ring = list(zip(np.asarray(x).tolist(), np.asarray(y).tolist(), strict=True))
    return _carried_polygon([ring], frame.crs, crs, rectangle=False)


def parse_crs_phrase(text: str) -> CRS:
    """A CRS as people give it: EPSG:code, a registered name, a .prj or .wkt file, any layer, or its text.

    Raises InputError, also for a layer that has none.
    """
    path = Path(text)
    if text.lstrip()[:1] == "{" or re.match(r"\s*[A-Za-z_]+\s*\[", text):
        return read_crs(text)
    if path.suffix.lower() in (".prj", ".wkt", ".json") and path.is_file():
        try:
            return read_crs(readings.note(path).read_text("utf-8", errors="replace"))
        except OSError as exc:
            raise InputError(f"{path} cannot be read", exc.strerror or str(exc), "check the path") from exc
    if named.split_layer(text)[0].exists() and path.suffix:
        crs = _crs_of_layer(path)
        if crs is None:
            raise InputError(f"{path} has no CRS to take", "nobody said what it is in", "give EPSG:code")
        return crs
    return parse_crs(text)


def _crs_of_layer(path: Path) -> CRS | None:
    """The CRS of a frame, of points, features or a raster."""

    if holds_points(path):
        return open_points(path).cloud.crs
    if _holds_features(str(path)):
        return named.read_named(str(path)).crs
    return load_frame(path).crs


def load_frame(path: Path) -> Frame:
    """The frame of a frame file or of any raster. Raises InputError."""
    if path.name.endswith(FRAME_ENDING) or path.suffix == ".toml":
        return read_frame(path)
    return open_raster(path).frame


def _place(place: PlaceArea, where: Where) -> Area:
    """A square around a place, of the places file or of a gazetteer."""
    if not where.reach:
        raise UsageError(f"place:{place.name} is a point", "an area has a size", "add --reach 1.5mi")
    listed = where.places or next((source.name for source in gazetteers()), None)
    if listed is None:
        raise UsageError(
            f"place:{place.name} needs a list of places",
            "none is set, and no source is a gazetteer",
            'put places = "places.geojson" into zembrel.toml, with a name for each point',
        )
    reach = parse_length(where.reach)
    if not named.split_layer(listed)[0].exists() or listed.endswith(SOURCE_ENDING):
        source = find_source(listed)
        found = find_place(source, Service.of(source, offline=readings.offline), place.name)
        return AroundArea("square", found.x, found.y, reach, by_code(4326))
    table = named.read_named(listed)
    names = {str(row.get("name", "")): n for n, row in enumerate(table.rows())}
    if place.name not in names:
        raise InputError(
            f"there is no place {place.name!r}", f"{listed} does not list it", nearest_name(place.name, names)
        )
    point = table.geometries[names[place.name]].centroid
    return AroundArea("square", point.x, point.y, reach, table.crs)


class OutsideError(EmptyInputError):
    """An input has nothing inside the area: of many, it is left out."""


def left_out(outside: Sequence[Path]) -> list[Fact]:
    """A word about inputs outside the area, with the names of the first."""
    if not outside:
        return []
    names = tuple(path.name for path in outside[:_SHOWN])
    return [fact("inputs_left_out", inputs=len(outside), names=names)]


def overlap_error(
    what: str, bounds: Bounds, crs: CRS | None, area: str, meant: str | None = None
) -> OutsideError:
    """The error for an area and something with `bounds` in `crs` that do not meet.

    meant: the area that was probably meant.
    """
    west, south, east, north = bounds
    return OutsideError(
        f"{what} inside {area}",
        f"the ground covered is {west:.10g},{south:.10g},{east:.10g},{north:.10g} in {label(crs)}",
        f"x comes first: did you mean {meant}?"
        if meant
        else "check the area and its CRS (append @EPSG:code to give one)",
    )
