"""Point files that a verb is given, as the options say they are to be understood."""

from __future__ import annotations

from dataclasses import replace

from zembrel.errors import InputError, UsageError
from zembrel.formats.origin import Origin
from zembrel.inputs.lengths import in_units_of
from zembrel.inputs.options import Inputs
from zembrel.inputs.saidcrs import crs_of
from zembrel.inputs.within import condition_of
from zembrel.points.bounding import with_bounds
from zembrel.points.files import Reading, open_points
from zembrel.points.files.catalogue import format_of
from zembrel.points.model import PointSource
from zembrel.points.picking import Picking, parse_classes, parse_returns
from zembrel.points.restated import Restated, las_of


def open_cloud(origin: Origin, options: Inputs) -> PointSource:
    """One point file, with its CRS as the options say. Raises InputError."""
    columns = tuple(options.columns.split(",")) if options.columns else None
    with origin.naming():
        source = open_points(origin.place, Reading(columns, options.salvage))
    if options.resolution:
        source = _coarser(origin, source, options)
    las = las_of(source)
    if las is not None and (parts := with_bounds(las)) is not None:
        source = Restated(source, source.cloud, parts)
    crs = crs_of(origin, source.cloud.crs, options)
    if crs is source.cloud.crs:
        return source
    return Restated(source, replace(source.cloud, crs=crs), source.parts)


def _coarser(origin: Origin, source: PointSource, options: Inputs) -> PointSource:
    """The levels of an octree that are needed for a resolution. Raises InputError if there is none."""
    if format_of(origin.file) != "copc":
        raise InputError(
            f"{origin} has no levels",
            "--resolution picks those of a cloud-optimized file",
            "use thin, or leave it out",
        )
    size = in_units_of(str(options.resolution), source.cloud.crs)
    if size <= 0:
        raise UsageError(
            f"--resolution {options.resolution}", "it has to be above 0", "write --resolution 2m"
        )
    return open_points(origin.place, Reading(salvage=options.salvage, resolution=size))


def picking(options: Inputs) -> Picking:
    """Which points the options ask for. Raises UsageError."""
    return Picking(parse_classes(options.classes), parse_returns(options.returns), condition_of(options))
