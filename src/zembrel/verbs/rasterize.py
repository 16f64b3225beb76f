"""rasterize: features onto the cells of a frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

import numpy as np
import numpy.typing as npt
import shapely

from zembrel.errors import EmptyInputError, InputError, RefusedError, UsageError, nearest_name
from zembrel.facts import distinct, fact
from zembrel.features.scanned import RULES, Covered, Scanned, outlines
from zembrel.features.table import FeatureTable, Geometries
from zembrel.formats import open_raster
from zembrel.formats.origin import Origin
from zembrel.grid.frame import Frame
from zembrel.grid.framefile import ENDING as FRAME_ENDING
from zembrel.inputs.framing import check_meets, frame_for
from zembrel.inputs.intake import take
from zembrel.inputs.lengths import in_crs_units
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.measure import show_number
from zembrel.optiontext import OptionText
from zembrel.pictures.featurelegend import codes_of_words, legend_of_codes
from zembrel.raster.legend import Legend
from zembrel.raster.model import TYPES, Band, Raster
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.cast import fitting_nodata
from zembrel.results.eachtable import opened
from zembrel.results.receipt import Receipt
from zembrel.results.write import write
from zembrel.verbtable.record import FEATURES


@dataclass(frozen=True)
class Scanning:
    """How features become cells: one of `value`, `field`, `count` and `cover`, and who wins in a cell."""

    value: Annotated[float | None, OptionText("Value to write for every feature. Default: 1.", "VALUE")] = (
        None
    )
    field: Annotated[
        str | None, OptionText("Field with the value to write; text becomes classes.", "FIELD")
    ] = None
    count: Annotated[bool, OptionText("Write the number of features in each cell.")] = False
    cover: Annotated[bool, OptionText("Write the covered share of each cell.")] = False
    touching: Annotated[bool, OptionText("Use all cells that a feature touches.")] = False
    width: Annotated[str | None, OptionText("Width of lines and points, e.g. 3m.", "LENGTH")] = None
    rank: Annotated[
        str | None, OptionText("Field for the drawing order; the largest value is on top.", "FIELD")
    ] = None
    overlap: Annotated[
        str, OptionText("Value to use in overlaps: first, last, min, max, mean, sum or count.", "RULE")
    ] = "last"
    fill: Annotated[
        float | None, OptionText("Value for cells without a feature. Default: nodata.", "VALUE")
    ] = None


def rasterize(inputs: Inputs, where: Where, output: Output, scanning: Scanning) -> Receipt:
    """Draw the features of one file onto a frame.

    Raises InputError for faulty geometries unless they are to be mended or left out, RefusedError for values
    that the cell type cannot hold, UsageError for options that exclude each other.
    """
    _check_options(inputs, scanning)
    origin = _only_input(inputs, output)
    path = origin.name
    table, mended = opened(origin, inputs, check=True)
    if not len(table):
        raise EmptyInputError(
            f"{path} holds no feature", "there is nothing to draw", "name another file or --layer"
        )
    frame, chose = frame_for(table, where)
    assert frame.crs is not None
    table = _ranked(table.to(frame.crs), scanning)
    check_meets(table, frame, output)
    view = scanned_view(path, table, frame, output, scanning)
    view = _with_nodata_of(
        view, where, [] if scanning.count or scanning.cover else _values(table, scanning)[0]
    )
    written = write(view, output.path, replace(output, type=None))
    way = "covered fraction" if scanning.cover else "cells touched" if scanning.touching else "cell middles"
    said = [
        *chose,
        *mended,
        fact("cells_by", way=way),
        *([] if scanning.cover else [fact("overlap", rule=scanning.overlap)]),
        *written.chose,
    ]
    return Receipt(
        "rasterize",
        (path,),
        output.out,
        planned=output.dry_run,
        frame=frame,
        chose=distinct(said),
        checks=(fact("features", features=len(table)), *written.checks),
        results=(written.result,),
        own={"features": len(table)},
    )


def _with_nodata_of(view: Raster, where: Where, values: Sequence[float]) -> Raster:
    """`view` with the nodata value of the raster whose cells it has, if no feature has that value."""
    if where.onto is None or where.onto.endswith((FRAME_ENDING, ".toml")):
        return view
    nodata = open_raster(Path(where.onto)).bands[0].nodata
    kept = fitting_nodata(nodata, view.bands[0].type)
    if kept is None or kept in values:
        return view
    return Relabelled(view, tuple(replace(band, nodata=kept) for band in view.bands))


def _only_input(inputs: Inputs, output: Output) -> Origin:
    """The one file. Raises UsageError for more."""
    origins = take(inputs, output, (FEATURES,)).origins
    if len(origins) == 1:
        return origins[0]
    raise UsageError(
        f"rasterize takes one file, not {len(origins)}",
        "which would win is not said",
        "join them with mosaic",
    )


def scanned_view(path: Path, table: FeatureTable, frame: Frame, output: Output, scanning: Scanning) -> Raster:
    """What the features, in the CRS of the frame, put on its cells."""
    values, legend = _values(table, scanning)
    shapes = _widened(table.geometries, scanning, frame)
    bands = (_band(path, values, legend, output, scanning),)
    if scanning.cover:
        return Covered(frame, bands, outlines([_ground(path, shapes)], [1.0], frame, turned=True))
    drawn = outlines(shapes, values, frame, touching=scanning.touching)
    rule = "count" if scanning.count else scanning.overlap
    return Scanned(frame, bands, drawn, rule, 0.0 if scanning.count else scanning.fill)


def _ground(path: Path, shapes: Geometries) -> shapely.Geometry:
    """The ground that polygons cover, once where several do. Raises InputError if there are none."""
    parts = shapely.get_parts(shapely.get_parts(shapes))
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


def _ranked(table: FeatureTable, scanning: Scanning) -> FeatureTable:
    """Features in the order they are drawn: by their rank, higher on top, else as they stand."""
    if scanning.rank is None:
        return table
    return table.take(np.argsort(_numbers(table, scanning.rank), kind="stable"))


def _numbers(table: FeatureTable, field: str) -> npt.NDArray[np.float64]:
    """A number of each feature. Raises InputError where one is missing."""
    numbers = table.numbers(field)
    missing = np.flatnonzero(~np.isfinite(numbers))
    if missing.size:
        raise InputError(
            f"feature {missing[0] + 1} has no {field}",
            f"{missing.size:,} of {len(table):,} features have none",
            "pick features with --where",
        )
    return numbers


def _values(table: FeatureTable, scanning: Scanning) -> tuple[list[float], Legend | None]:
    """The value of each feature; words become codes with a legend."""
    if scanning.field is None:
        return [1.0 if scanning.value is None else scanning.value] * len(table), None
    held = table.named(scanning.field).tolist()
    if not all(isinstance(value, str) for value in held):
        codes = _numbers(table, scanning.field).tolist()
        return codes, legend_of_codes(table, codes)
    return codes_of_words(table, scanning.field, held)


def _widened(shapes: Geometries, scanning: Scanning, frame: Frame) -> Geometries:
    """Lines with a width as the areas they cover."""
    if scanning.width is None:
        return shapes
    reach = in_crs_units(scanning.width, frame) / 2
    thin, wide = shapely.get_dimensions(shapes) < 2, shapes.copy()
    wide[thin] = shapely.buffer(shapes[thin], reach, quad_segs=16)
    return wide


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
