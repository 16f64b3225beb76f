"""rasterize: features onto the cells of a frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError, RefusedError, UsageError, nearest_name
from zembrel.features.reading import read_features
from zembrel.features.scanned import RULES, Covered, Scanned, outlines
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS
from zembrel.grid.frame import Frame, snapped
from zembrel.measure import parse_cell, show_number
from zembrel.raster.legend import Entry, Legend, shade
from zembrel.raster.model import TYPES, Band, Raster
from zembrel.verbs.lengths import in_crs_units
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Receipt, frame_items
from zembrel.verbs.within import load_frame, parse_crs_phrase
from zembrel.verbs.write import write

_SHOWN = 5  # faulty features that a message names


@dataclass(frozen=True)
class Scanning:
    """How features become cells: one of `value`, `field`, `count` and `cover`, and who wins in a cell."""

    value: float | None = None
    field: str | None = None
    count: bool = False
    cover: bool = False
    touching: bool = False
    width: str | None = None
    rank: str | None = None
    overlap: str = "last"
    fill: float | None = None
    condition: str | None = None
    repair: bool = False
    skip_invalid: bool = False


def rasterize(inputs: Inputs, where: Where, output: Output, scanning: Scanning) -> Receipt:
    """Draw the features of one file onto a frame.

    Raises InputError for faulty geometries unless they are to be mended or left out, RefusedError for values
    that the cell type cannot hold, UsageError for options that exclude each other.
    """
    _check_options(inputs, scanning)
    path = Path(inputs.inputs[0])
    table = read_features(path, inputs.layer)
    table = table.where(scanning.condition) if scanning.condition else table
    if not table.geometries:
        raise InputError(
            f"{path} holds no feature", "there is nothing to draw", "name another file or --layer"
        )
    table, mended = _sound(path, table, scanning)
    frame, chose = _frame(table, where)
    assert frame.crs is not None
    table = _ranked(table.to(frame.crs), scanning)
    view = _view(path, table, frame, output, scanning)
    written = write(view, output.path, replace(output, type=None))
    way = "covered fraction" if scanning.cover else "cells touched" if scanning.touching else "cell middles"
    said = [
        *chose,
        *mended,
        way,
        *([] if scanning.cover else [f"overlap {scanning.overlap}"]),
        *written.chose,
    ]
    counted = (f"{len(table.geometries):,} features", *written.checks)
    lines = (
        ("frame", frame_items(frame)),
        ("chose", tuple(said)),
        ("checks", counted),
        ("plan" if output.dry_run else "wrote", written.wrote),
    )
    facts = {
        "inputs": [str(path)],
        "features": len(table.geometries),
        "chose": said,
        "results": [written.facts],
    }
    return Receipt("rasterize", f"{path} -> {output.out}", lines, facts)


def _view(path: Path, table: FeatureTable, frame: Frame, output: Output, scanning: Scanning) -> Raster:
    """What the features, in the CRS of the frame, put on its cells."""
    values, legend = _values(path, table, scanning)
    shapes = _widened(table.geometries, scanning, frame)
    bands = (_band(path, values, legend, output, scanning),)
    if scanning.cover:
        return Covered(frame, bands, outlines([_ground(path, shapes)], [1.0], frame))
    drawn = outlines(shapes, values, frame, touching=scanning.touching)
    rule = "count" if scanning.count else scanning.overlap
    return Scanned(frame, bands, drawn, rule, 0.0 if scanning.count else scanning.fill)


def _ground(path: Path, shapes: Sequence[shapely.Geometry]) -> shapely.Geometry:
    """The ground that polygons cover, once where several do. Raises InputError if there are none."""
    parts = shapely.get_parts(shapely.get_parts(np.array(shapes, object)))
    polygons = parts[shapely.get_dimensions(parts) == 2]
    if not len(polygons):
        raise InputError(
            f"{path} holds no polygon", "lines and points cover no ground", "give them a --width"
        )
    return shapely.union_all(polygons)


def _check_options(inputs: Inputs, scanning: Scanning) -> None:
    if len(inputs.inputs) != 1:
        raise UsageError(
            f"rasterize draws one file of features, not {len(inputs.inputs)}",
            "each has its own fields",
            "name one",
        )
    asked = [scanning.value is not None, scanning.field is not None, scanning.count, scanning.cover]
    if sum(asked) > 1:
        raise UsageError(
            "a cell gets one thing",
            "--value, --field, --count and --cover exclude each other",
            "keep one of them",
        )
    if scanning.overlap not in RULES:
        raise UsageError(
            f"there is no overlap rule {scanning.overlap!r} here",
            "it says who wins where several features fall on a cell",
            nearest_name(scanning.overlap, RULES),
        )


def _sound(path: Path, table: FeatureTable, scanning: Scanning) -> tuple[FeatureTable, list[str]]:
    """The features that can be drawn, and what was mended or left out. Raises InputError for the rest."""
    faults: list[tuple[int, str]] = []
    for number, geometry in enumerate(table.geometries):
        if geometry.is_empty:
            faults.append((number, "it is empty"))
        elif not np.isfinite(shapely.get_coordinates(geometry)).all():
            faults.append((number, "a coordinate is no number"))
        elif not geometry.is_valid:
            why = shapely.is_valid_reason(geometry).lower()
            faults.append((number, why.replace("[", " at ").replace("]", "")))
    if not faults:
        return table, []
    bad = {number for number, _ in faults}
    if scanning.skip_invalid:
        kept = [n for n in range(len(table.geometries)) if n not in bad]
        if not kept:
            raise InputError(
                f"{path} has no sound feature", faults[0][1], "correct them where they were drawn"
            )
        table = FeatureTable(
            tuple(table.geometries[n] for n in kept), tuple(table.attributes[n] for n in kept), table.crs
        )
        return table, [f"{len(bad)} faulty features left out"]
    hopeless = [entry for entry in faults if "coordinate" in entry[1] or "empty" in entry[1]]
    if scanning.repair and not hopeless:
        shapes = [shapely.make_valid(g) if n in bad else g for n, g in enumerate(table.geometries)]
        return replace(table, geometries=tuple(shapes)), [f"{len(bad)} faulty features mended"]
    shown = (hopeless if scanning.repair else faults)[:_SHOWN]
    listed = "; ".join(f"feature {number + 1}: {why}" for number, why in shown)
    more = f"; and {len(faults) - len(shown)} more" if len(faults) > len(shown) else ""
    raise InputError(
        f"{len(faults)} of {len(table.geometries)} features in {path} are faulty",
        listed + more,
        "add --repair to mend them, or --skip-invalid to leave them out",
    )


def _frame(table: FeatureTable, where: Where) -> tuple[Frame, list[str]]:
    """The frame to draw on: a given one, or the extent of the features in cells of the asked size."""
    if where.onto:
        if where.crs or where.cell:
            raise UsageError(
                "--onto excludes --crs and --cell", "the frame says both", "leave out one or the other"
            )
        frame = load_frame(Path(where.onto))
        if frame.crs is None:
            raise InputError(
                f"{where.onto} has no CRS", "features have a place on the Earth", "give it one with label"
            )
        return frame, [f"onto {where.onto}"]
    if not where.cell:
        raise UsageError(
            "there is no frame", "features have no cells of their own", "add --onto FRAME, or --cell LENGTH"
        )
    crs: CRS = parse_crs_phrase(where.crs) if where.crs else table.crs
    across, along = parse_cell(where.cell)
    cell = across.in_unit(crs.unit.kind, crs.unit.factor), along.in_unit(crs.unit.kind, crs.unit.factor)
    bounds = shapely.total_bounds(np.array(table.to(crs).geometries, object))
    west, south, east, north = (float(v) for v in bounds)
    return snapped(crs, (west, south, east, north), cell), ["extent of the features"]


def _ranked(table: FeatureTable, scanning: Scanning) -> FeatureTable:
    """Features in the order they are drawn: by their rank, higher on top, else as they stand."""
    if scanning.rank is None:
        return table
    ranks = [
        _number(row.get(_known(table, scanning.rank)), n, scanning.rank)
        for n, row in enumerate(table.attributes)
    ]
    order = np.argsort(np.array(ranks), kind="stable").tolist()
    return FeatureTable(
        tuple(table.geometries[n] for n in order), tuple(table.attributes[n] for n in order), table.crs
    )


def _known(table: FeatureTable, field: str) -> str:
    fields = list(dict.fromkeys(name for row in table.attributes for name in row))
    if field not in fields:
        raise InputError(
            f"no feature has a field {field!r}",
            f"there are {', '.join(fields) or 'none'}",
            nearest_name(field, fields),
        )
    return field


def _number(value: Any, number: int, field: str) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not np.isfinite(value):
        raise InputError(
            f"feature {number + 1} has {field} = {value!r}",
            "a number is needed",
            "pick features with --where",
        )
    return float(value)


def _values(path: Path, table: FeatureTable, scanning: Scanning) -> tuple[list[float], Legend | None]:
    """The value of each feature; words become codes with a legend."""
    count = len(table.geometries)
    if scanning.field is None:
        return [1.0 if scanning.value is None else scanning.value] * count, None
    held = [row.get(_known(table, scanning.field)) for row in table.attributes]
    if all(isinstance(value, str) for value in held):
        names = sorted(set(map(str, held)))
        if len(names) > 255:
            raise RefusedError(
                f"{scanning.field} has {len(names):,} different words",
                "a legend has 255 classes",
                "use a number",
            )
        codes = {name: float(n) for n, name in enumerate(names, 1)}
        return [codes[str(value)] for value in held], Legend.of(
            Entry(n, name, shade(n)) for n, name in enumerate(names, 1)
        )
    return [_number(value, n, scanning.field) for n, value in enumerate(held)], None


def _widened(
    shapes: Sequence[shapely.Geometry], scanning: Scanning, frame: Frame
) -> Sequence[shapely.Geometry]:
    """Lines with a width as the areas they cover."""
    if scanning.width is None:
        return shapes
    reach = in_crs_units(scanning.width, frame) / 2
    return [shapely.buffer(g, reach, quad_segs=16) if shapely.get_dimensions(g) < 2 else g for g in shapes]


def _band(
    path: Path, values: Sequence[float], legend: Legend | None, output: Output, scanning: Scanning
) -> Band:
    """The band of the result, in a type that holds every value. Raises RefusedError."""
    name = scanning.field or ("count" if scanning.count else "cover" if scanning.cover else "value")
    if scanning.cover:
        kind = output.type or "float32"
        if kind not in ("float32", "float64"):
            raise UsageError(
                f"--type {kind} holds no fractions", "they lie between 0 and 1", "write --type float32"
            )
        return Band(name, kind)
    held = [*values, *([scanning.fill] if scanning.fill is not None else [])]
    whole = all(float(v).is_integer() for v in held) and scanning.overlap != "mean"
    low, high = min(held), max(held)
    usual = "float64"
    if scanning.count:
        usual = "uint16"
    elif whole:
        kinds = ("uint8", "int16", "uint16", "int32", "float64")
        sums = scanning.overlap == "sum"
        usual = next(
            k for k in kinds if not (sums and k != "float64" and k != "int32") and _fits(low, high, k)
        )
    elif all(float(np.float32(v)) == v for v in held):
        usual = "float32"
    kind = output.type or usual
    if kind not in TYPES:
        raise UsageError(
            f"there is no cell type {kind!r}", "cells have one of a few types", nearest_name(kind, TYPES)
        )
    bad = next((n for n, v in enumerate(held) if not _fits(v, v, kind)), None)
    if bad is not None and not scanning.count:
        raise RefusedError(
            f"{kind} cannot hold {show_number(held[bad])} of feature {bad + 1}",
            f"values run from {show_number(low)} to {show_number(high)}",
            f"leave --type out, or write --type {usual}",
        )
    return Band(name, kind, legend=legend)


def _fits(low: float, high: float, kind: str) -> bool:
    if np.dtype(kind).kind == "f":
        return bool(np.abs([low, high]).max() <= np.finfo(kind).max)
    limits = np.iinfo(kind)
    return limits.min <= low and high <= limits.max and float(low).is_integer() and float(high).is_integer()
