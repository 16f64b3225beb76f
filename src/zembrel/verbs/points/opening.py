"""Point files that a verb is given, as the options say they are to be understood."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zembrel.errors import InputError, UsageError
from zembrel.formats.elsewhere import real
from zembrel.geodesy.crs import label, same, vertical_of
from zembrel.points.bounding import with_bounds
from zembrel.points.files import Reading, holds_points, open_points
from zembrel.points.files.table import format_of, surely_points
from zembrel.points.model import PointSource
from zembrel.points.picking import Picking, parse_classes, parse_returns
from zembrel.points.told import Told, las_of
from zembrel.verbs.inputs import find_inputs
from zembrel.verbs.lengths import in_units_of
from zembrel.verbs.options import Inputs
from zembrel.verbs.within import parse_crs_phrase


def point_paths(options: Inputs, out: Path | None = None, *, only: bool = False) -> list[Path]:
    """The inputs if they are point files, else none. Raises UsageError for some of each.

    only: for verbs that take points alone, to whom any table is one of points, and anything else an
    InputError.
    """
    paths = find_inputs(options, out, surely_points if only else None)
    tables = only or options.columns is not None
    points = [p for p in paths if holds_points(real(p)) or (tables and format_of(real(p)) is not None)]
    if len(points) < len(paths) and (points or only):
        other = next(path for path in paths if path not in points)
        if not only:
            raise UsageError(
                f"{points[0]} holds points, and {other} does not",
                "they do not go together",
                "give them in two runs",
            )
        raise InputError(f"{other} holds no points", "it is of no point format", "see zembrel formats")
    asked = [o for o in ("classes", "returns", "columns", "salvage", "resolution") if getattr(options, o)]
    if not points and asked:
        raise UsageError(f"{paths[0]} holds no points", f"--{asked[0]} is for points", "leave it out")
    return points


def open_cloud(path: Path, options: Inputs) -> PointSource:
    """One point file, with its CRS as the options say. Raises InputError."""
    columns = tuple(options.columns.split(",")) if options.columns else None
    source = open_points(real(path), Reading(columns, options.salvage))
    if options.resolution:
        source = _coarser(path, source, options)
    las = las_of(source)
    if las is not None and (parts := with_bounds(las)) is not None:
        source = Told(source, source.cloud, parts)
    if not options.from_crs:
        return source
    crs, own = parse_crs_phrase(options.from_crs), source.cloud.crs
    added = same(own, crs) and vertical_of(own) is None and vertical_of(crs) is not None
    if own is not None and not same(own, crs) and not options.force_crs:
        raise InputError(
            f"{path} says it is in {label(own)}, not {label(crs)}",
            "--from-crs is for files that do not say",
            "leave --from-crs out, or add --force-crs to overrule the file",
        )
    if own is None or options.force_crs or added:
        return Told(source, replace(source.cloud, crs=crs), source.parts)
    return source


def _coarser(path: Path, source: PointSource, options: Inputs) -> PointSource:
    """The levels of an octree that are needed for a resolution. Raises InputError if there is none."""
    if format_of(path) != "copc":
        raise InputError(
            f"{path} has no levels",
            "--resolution picks those of a cloud-optimized file",
            "use thin, or leave it out",
        )
    size = in_units_of(str(options.resolution), source.cloud.crs)
    if size <= 0:
        raise UsageError(
            f"--resolution {options.resolution}", "it has to be above 0", "write --resolution 2m"
        )
    return open_points(real(path), Reading(salvage=options.salvage, resolution=size))


def picking(options: Inputs) -> Picking:
    """Which points the options ask for. Raises UsageError."""
    return Picking(parse_classes(options.classes), parse_returns(options.returns), options.condition)
